package cli

import (
	"context"

	"github.com/spf13/cobra"

	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) linkVerb() *cobra.Command {
	v := &cobra.Command{Use: "link", Short: "Say where a bench's links go, and end what is being asked on them"}
	v.AddCommand(a.linkSet(), a.linkRemove(), a.linkEnd())
	return v
}

func (a *app) linkSet() *cobra.Command {
	n := client.NewLink{}
	v := &cobra.Command{Use: "set BENCH/NAME", Short: "Make a link, or change where it goes", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(places),
		Long:    "The bench writes it into its own list and uses it at once; nothing is restarted. A link by its adapter is found\nwherever the adapter is plugged in. `ferry links --bench BENCH` lists the ports that are there.",
		Example: "  ferry link set van/slip-1 --adapter TT-0417\n  ferry link set van/slip-1 --port /dev/ttyUSB0\n  ferry link set van/hall-3 --address 192.0.2.17:4000\n  ferry link set shop/can-1 --port /dev/ttyACM0 --can 500000\n  ferry link set shop/can-2 --interface can0\n  ferry link set dock/tug --gateway 192.0.2.42",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Link = args[0]
			if err := c.SetLink(ctx, n); err != nil {
				return err
			}
			return a.show(n, func() {
				where := n.Path
				switch {
				case n.Address != "":
					where = n.Address
				case n.Gateway != "":
					where = told("the vehicle at %s", n.Gateway)
				case n.Interface != "":
					where = told("CAN interface %s", n.Interface)
				case n.Path == "":
					where = told("adapter %s, wherever it is plugged in", n.Adapter)
				case n.Adapter != "":
					where = words.Listed(where, told("adapter %s", n.Adapter))
				}
				if n.Rate > 0 {
					where = words.Listed(where, told("a CAN adapter with a bus of %d bit/s", n.Rate))
				}
				tell(a.out, "%s %s goes to %s. What is on it is not known yet: ferry identify %s\n", a.paint(teal, "✓"), n.Link, where, n.Link)
			})
		})}
	v.Flags().StringVar(&n.Path, "port", "", "a serial port of the bench, such as /dev/ttyUSB0")
	v.Flags().StringVar(&n.Adapter, "adapter", "", "serial of the adapter")
	v.Flags().StringVar(&n.Address, "address", "", "HOST:PORT of a serial port over the network (RFC 2217)")
	v.Flags().IntVar(&n.Rate, "can", 0, "a CAN adapter is there: the rate of its bus in bit/s, such as 500000")
	v.Flags().StringVar(&n.Interface, "interface", "", "a CAN interface of the bench's machine, such as can0")
	v.Flags().StringVar(&n.Gateway, "gateway", "", "HOST or HOST:PORT of a vehicle's gateway (ISO 13400-2)")
	v.MarkFlagsOneRequired("port", "adapter", "address", "gateway", "interface")
	v.MarkFlagsMutuallyExclusive("port", "address", "gateway", "interface")
	v.MarkFlagsMutuallyExclusive("can", "gateway", "interface")
	return v
}

func (a *app) linkRemove() *cobra.Command {
	return &cobra.Command{Use: "remove BENCH/NAME", Short: "The bench has this link no longer", Args: cobra.ExactArgs(1), Example: "  ferry link remove van/slip-1", ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := client.NewLink{Link: args[0], PortChoice: client.PortChoice{Remove: true}}
			if err := c.SetLink(ctx, n); err != nil {
				return err
			}
			return a.show(n, func() { tell(a.out, "%s %s is removed.\n", a.paint(teal, "✓"), n.Link) })
		})}
}
