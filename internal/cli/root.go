// Package cli is the command line: a face of the HTTP API without rules of its
// own. People get words and tables, scripts get JSON on stdout and nothing else
// there.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"zealousferry/core"
	"zealousferry/internal/client"
)

// app is one call of the program.
type app struct {
	in       io.Reader
	out, err io.Writer
	output   string
	url      string
	token    string
	color    bool // on out
	live     bool // err is a terminal
	plain    bool // without colours
	exit     int  // of a call that ended without an error but not well
	clock    core.Clock
}

// Exit codes: 0 done, 1 anything unforeseen, 2 a wrong call, then 10 and up in
// the order of core.Kinds.
const (
	exitUnforeseen = 1
	exitUsage      = 2
	exitFirstKind  = 10
)

// exitNotProven says that a unit was written and verified, but that nobody has seen
// it run what it should.
const exitNotProven = 30

// ExitCode is the code of an error kind.
func ExitCode(k core.Kind) int {
	for i, x := range core.Kinds {
		if x == k {
			return exitFirstKind + i
		}
	}
	return exitUnforeseen
}

// Run carries out a command line and returns its exit code.
func Run(args []string, in io.Reader, out, errs io.Writer) int {
	a := &app{in: in, clock: core.System{}, url: os.Getenv("FERRY_URL"), token: os.Getenv("FERRY_TOKEN")}
	if a.url == "" {
		a.url = "http://127.0.0.1:8470"
	}
	plain := os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb"
	a.plain = plain
	a.color = isTerminal(out) && !plain
	a.live = isTerminal(errs) && os.Getenv("TERM") != "dumb"
	a.out = &cleaned{to: out, raw: func() bool { return (a.output == "json" || a.output == "csv") && !isTerminal(out) }}
	a.err = &cleaned{to: errs, draws: true}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := root.Execute()
	if err == nil {
		return a.exit
	}
	return a.report(err)
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// report tells an error to a person or a script.
func (a *app) report(err error) int {
	e, known := err.(*core.Error)
	if !known {
		known = errors.As(err, &e)
	}
	if !known {
		if errors.Is(err, context.Canceled) {
			return exitUnforeseen
		}
		e = &core.Error{Message: err.Error(), Todo: core.Todos(core.Plain("See ferry help."))}
	}
	code := exitUsage
	if known && e.Kind != "" {
		code = ExitCode(e.Kind)
	}
	if a.output == "json" {
		told := map[string]any{"kind": e.Kind, "message": e.Message, "state": e.State, "next": e.Next, "id": e.ID, "params": e.Params, "steps": e.Steps}
		if e.At != nil {
			told[e.At.Unit] = e.At.N
		}
		json.NewEncoder(a.out).Encode(map[string]any{"error": told})
		return code
	}
	word := strings.ReplaceAll(string(e.Kind), "-", " ")
	if word == "" {
		word = "not understood"
	}
	tell(a.err, "%s %s\n  what   %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, strings.ToUpper(word)), wrap(e.Message, 9))
	if e.State != "" {
		labelled(a.err, 6, "state", wrap(e.State, 9))
	}
	if e.Next != "" {
		labelled(a.err, 6, "next", a.paint(bold, wrap(e.Next, 9)))
	}
	tell(a.err, "  exit   %d\n", code)
	return code
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "ferry",
		Short:         "Service the firmware of units in the field",
		Long:          "Zealous Ferry finds out what a unit is, says which firmware fits it and why, saves its\nmemory, writes the new image, proves that it arrived, and keeps the record.",
		Example:       "  ferry links\n  ferry identify van/quay-1\n  ferry fit van/quay-1\n  ferry flash van/quay-1\n  ferry history Q80-4417-206",
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "text", "text for people, json for scripts, csv for lists in tables")
	root.PersistentFlags().StringVar(&a.url, "url", a.url, "address of the service, several with commas (FERRY_URL)")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.output != "text" && a.output != "json" && a.output != "csv" {
			return mistyped("--output is text, json or csv, not %q", a.output)
		}
		return nil
	}
	root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"text", "json", "csv"}, cobra.ShellCompDirectiveNoFileComp))
	root.AddGroup(&cobra.Group{ID: "work", Title: "In the order of the work:"}, &cobra.Group{ID: "team", Title: "The team's catalogue and register:"}, &cobra.Group{ID: "machine", Title: "Machines:"})
	for group, verbs := range map[string][]*cobra.Command{
		"work":    {a.todayVerb(), a.linksVerb(), a.linkVerb(), a.identifyVerb(), a.scan(), a.roundVerb(), a.trayVerb(), a.fitVerb(), a.noteVerb(), a.cardVerb(), a.rehearseVerb(), a.wiresVerb(), a.checkVerb(), a.listenVerb(), a.backupVerb(), a.flashVerb(), a.restoreVerb(), a.runVerb(), a.testVerb(), a.historyVerb()},
		"team":    {a.signInVerb(), a.signOutVerb(), a.consoleVerb(), a.peopleVerb(), a.tokenVerb(), a.confirmVerb(), a.auditVerb(), a.retentionVerb(), a.quotaVerb(), a.unitsVerb(), a.unitVerb(), a.siteVerb(), a.settingsVerb(), a.handoverVerb(), a.offerVerb(), a.jobVerb(), a.holdVerb(), a.consentVerb(), a.secondVerb(), a.backupsVerb(), a.modelVerb(), a.bulletinVerb(), a.releaseVerb(), a.imageVerb(), a.keyVerb(), a.gearVerb(), a.adapterVerb()},
		"machine": {a.serveVerb(), a.migrateVerb(), a.dumpVerb(), a.loadVerb(), a.personVerb(), a.benchVerb(), a.doctorVerb(), a.versionVerb()},
		"demo":    a.demoVerbs(),
	} {
		if group == "demo" {
			group = "machine"
		}
		for _, v := range verbs {
			v.GroupID = group
			root.AddCommand(v)
		}
	}
	plainArguments(root)
	cobra.EnableCommandSorting = false
	const examples = "{{if .HasExample}}\n\nExamples:\n{{.Example}}{{end}}" // in cobra's own template; they come first here
	root.SetUsageTemplate("{{if .HasExample}}Examples:\n{{.Example}}\n\n{{end}}" + strings.Replace(root.UsageTemplate(), examples, "", 1))
	return root
}

// plainArguments has every verb say in words which arguments it wants, where others come.
func plainArguments(v *cobra.Command) {
	for _, sub := range v.Commands() {
		plainArguments(sub)
	}
	wants := v.Args
	if wants == nil {
		return
	}
	v.Args = func(c *cobra.Command, args []string) error {
		if wants(c, args) == nil {
			return nil
		}
		came := "nothing came"
		if len(args) > 0 {
			came = told("what came was %s", strings.Join(args, " "))
		}
		_, names, _ := strings.Cut(strings.TrimSuffix(c.UseLine(), " [flags]"), c.CommandPath())
		if names = strings.TrimSpace(names); names == "" {
			names = "nothing more"
		}
		return &core.Error{Message: told("%s wants %s; %s", c.CommandPath(), names, came), Todo: core.Todos(core.Plain("See %s --help.", c.CommandPath()))}
	}
}

// client speaks for whoever FERRY_TOKEN is of, or else for whoever has signed this machine in.
func (a *app) client() (*client.Client, error) {
	if a.token == "" {
		kept, err := keptTokens()
		if err != nil {
			return nil, err
		}
		a.token = kept[a.url]
	}
	return client.New(a.url, a.token, a.clock), nil
}

// console is where a browser finds the service.
func (a *app) console() string {
	first, _, _ := strings.Cut(a.url, ",")
	return strings.TrimRight(strings.TrimSpace(first), "/")
}

// readLine reads a line that a person types, unless Ctrl-C ends it first; whoever reads on gets
// what comes then.
func readLine(ctx context.Context, in *bufio.Reader) (string, error) {
	type typed struct {
		line string
		err  error
	}
	came := make(chan typed, 1)
	go func() {
		line, err := in.ReadString('\n')
		came <- typed{line, err}
	}()
	select {
	case t := <-came:
		if t.err != nil && t.line != "" { // the last one, without its end
			t.err = nil
		}
		return strings.TrimSpace(t.line), t.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// call gives a verb a client and a context that Ctrl-C ends; a second one ends the program.
func (a *app) call(f func(ctx context.Context, c *client.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(_ *cobra.Command, args []string) error {
		ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		context.AfterFunc(ctx, stop)
		c, err := a.client()
		if err != nil {
			return err
		}
		defer c.Close()
		return f(ctx, c, args)
	}
}

// show writes v as JSON, or as text has it.
func (a *app) show(v any, text func()) error {
	if a.output == "json" {
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		return e.Encode(v)
	}
	if a.output == "csv" {
		return csvOf(a.out, v)
	}
	text()
	return nil
}

// complete offers the values that list gives, with the service asked for a
// second at most.
func (a *app) complete(list func(ctx context.Context, c *client.Client) []string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		c, err := a.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		defer c.Close()
		return list(ctx, c), cobra.ShellCompDirectiveNoFileComp
	}
}

// places lists links and the serials on them.
func places(ctx context.Context, c *client.Client) []string {
	l, err := c.Links(ctx)
	if err != nil {
		return nil
	}
	var all []string
	for _, x := range l.Links {
		all = append(all, x.Link+"\t"+x.State+" "+x.Serial)
		if x.Serial != "" {
			all = append(all, x.Serial+"\t"+told("on %s", x.Link))
		}
	}
	return all
}

func serials(ctx context.Context, c *client.Client) []string {
	u, err := c.Units(ctx, "", "", 200)
	if err != nil {
		return nil
	}
	var all []string
	for _, x := range u.Units {
		all = append(all, x.Serial+"\t"+x.ModelName+" "+x.Site)
	}
	return all
}

func openRuns(ctx context.Context, c *client.Client) []string {
	r, err := c.Runs(ctx, client.RunQuery{State: "open", Size: 50})
	if err != nil {
		return nil
	}
	var all []string
	for _, x := range r.Runs {
		all = append(all, x.ID+"\t"+x.Kind+" "+x.Unit.Serial)
	}
	return all
}
