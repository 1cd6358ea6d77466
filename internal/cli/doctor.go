package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/internal/doctor"
)

func (a *app) doctorVerb() *cobra.Command {
	s := doctor.Service{Listen: "127.0.0.1:8470", Key: "service.key"}
	dir := "bench"
	v := &cobra.Command{Use: "doctor", Short: "What is wrong with this machine, and what mends it", Args: cobra.NoArgs,
		Long:    "Looks at the machine of a service where FERRY_DATABASE is set, at that of a bench where --dir is its folder,\nand else at what somebody needs who works from here. It changes nothing. Exit 16 where something is wrong.",
		Example: "  FERRY_DATABASE='ferry_serve:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry doctor --key /var/lib/ferry/service.key\n  ferry doctor --dir /var/lib/ferry-bench\n  ferry doctor",
		RunE: func(c *cobra.Command, _ []string) error {
			return untilStopped(func(ctx context.Context) error {
				var all []doctor.Finding
				if s.DSN = os.Getenv("FERRY_DATABASE"); s.DSN != "" {
					all = append(all, s.Look(ctx, a.clock.Now)...)
				}
				if _, err := os.Stat(filepath.Join(dir, "bench.json")); err == nil || c.Flags().Changed("dir") {
					all = append(all, doctor.Bench(ctx, dir, a.clock.Now)...)
				}
				if len(all) == 0 {
					api, err := a.client()
					if err != nil {
						return err
					}
					defer api.Close()
					all = doctor.Here(ctx, api, a.url, a.clock.Now)
				}
				for _, f := range all {
					if f.Is == doctor.Wrong {
						a.exit = ExitCode(core.VerifyDiffers)
					}
				}
				return a.show(map[string]any{"findings": all}, func() { a.findings(all) })
			})
		}}
	v.Flags().StringVar(&s.Key, "key", s.Key, "file of the service's key")
	v.Flags().StringVar(&s.Listen, "listen", s.Listen, "address that the service is to have")
	v.Flags().StringVar(&s.Cert, "tls-cert", "", "its certificate chain, PEM")
	v.Flags().StringVar(&s.CertKey, "tls-key", "", "its private key, PEM")
	v.Flags().StringVar(&dir, "dir", dir, "folder of a bench")
	v.MarkFlagsRequiredTogether("tls-cert", "tls-key")
	return v
}

func (a *app) findings(all []doctor.Finding) {
	of := ""
	titles := map[string]string{"service": "The service", "bench": "The bench", "here": "Work from here"}
	for _, f := range all {
		if f.Of != of {
			of = f.Of
			fmt.Fprintln(a.out, a.paint(bold, titles[of]))
		}
		mark := a.paint(teal, "✓")
		switch f.Is {
		case doctor.Look:
			mark = a.paint(amber, "!")
		case doctor.Wrong:
			mark = a.paint(brick, "✗")
		}
		fmt.Fprintf(a.out, "  %s %s: %s\n", mark, f.What, f.Says)
		if f.Do != "" {
			fmt.Fprintf(a.out, "      %s\n", f.Do)
		}
	}
}
