package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core/words"
	"zealousferry/internal/client"
)

const (
	// askedEvery is how often it is looked how far a question is.
	askedEvery = 500 * time.Millisecond
	// endsWithin is how long a question may take to end that somebody has ended.
	endsWithin = 15 * time.Second
)

// asking asks a bench something on a link that may take long, and shows how far it is.
// Whoever stops it (Ctrl-C) ends the question at the bench too, so that the link is free.
func asking[T any](ctx context.Context, a *app, c *client.Client, at string, ask func(context.Context) (T, error)) (T, error) {
	type answer struct {
		t   T
		err error
	}
	came := make(chan answer, 1)
	all, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	go func() {
		t, err := ask(all)
		came <- answer{t, err}
	}()
	shown := false
	clear := func() {
		if shown {
			fmt.Fprint(a.err, "\r\033[K")
		}
	}
	stop := ctx.Done()
	for {
		select {
		case got := <-came:
			clear()
			return got.t, got.err
		case <-stop:
			stop = nil
			call, end := context.WithTimeout(all, endsWithin)
			c.EndAsked(call, at) // whoever asked hears of it; where the bench is gone too, the time ends it
			end()
			time.AfterFunc(endsWithin, cancel)
		case <-a.clock.After(askedEvery):
			if stop == nil || a.output != "text" || !isTerminal(a.err) {
				continue
			}
			call, end := context.WithTimeout(all, askedEvery)
			if is, err := c.Asked(call, at); err == nil && is.Told != nil {
				clear()
				line := []rune(told("%s, for %s. Ctrl-C ends it.", is.Told.Text, since(a.clock.Now(), is)))
				fmt.Fprint(a.err, a.paint(faint, string(line[:min(len(line), 78)])))
				shown = true
			}
			end()
		}
	}
}

// since is how long a question has lasted.
func since(now time.Time, is client.Asked) string {
	if is.Since == nil {
		return ""
	}
	return now.Sub(*is.Since).Round(time.Second).String()
}

func (a *app) linkEnd() *cobra.Command {
	return &cobra.Command{Use: "end LINK|UNIT", Short: "End what is being asked on a link before it is over", Args: cobra.ExactArgs(1), Example: "  ferry link end van/quay-6", ValidArgsFunction: a.complete(places),
		Long: "Ends a check, an identification, a scan or listening that somebody began. None of them writes to memory. A run is stopped\nby `ferry run stop`.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			is, err := c.EndAsked(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(is, func() {
				tell(a.out, "%s %s: %s, begun by %s %s ago: ended.\n", a.paint(teal, "✓"), is.Link, words.Questions.In(is.Kind), is.By, since(a.clock.Now(), is))
			})
		})}
}
