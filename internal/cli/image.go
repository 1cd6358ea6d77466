package cli

import (
	"bufio"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
)

// fileChoice is the flags that say how a firmware file is to be read.
type fileChoice struct {
	format, member, family string
	at, counts             string
}

func (f *fileChoice) flags(v *cobra.Command) {
	v.Flags().StringVar(&f.format, "format", "", "read it as this format, instead of what its content shows")
	v.Flags().StringVar(&f.at, "at", "0", "address of the first byte, for formats that carry none")
	v.Flags().StringVar(&f.member, "member", "", "which file of an archive")
	v.Flags().StringVar(&f.family, "family", "", "which family's blocks of a UF2 file, as a number")
	v.Flags().StringVar(&f.counts, "counts", "", "which record counts where two give different bytes to one address: first, last")
	v.RegisterFlagCompletionFunc("counts", cobra.FixedCompletions([]string{"first", "last"}, cobra.ShellCompDirectiveNoFileComp))
	v.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(formatNames(), cobra.ShellCompDirectiveNoFileComp))
}

func formatNames() (all []string) {
	for _, f := range registry.Formats {
		all = append(all, f.Name()+"\t"+f.Title())
	}
	return all
}

func (f *fileChoice) choice() (registry.Choice, error) {
	c := registry.Choice{Format: f.format, Member: f.member}
	at, err := strconv.ParseUint(f.at, 0, 64)
	if err != nil {
		return c, mistyped("--at %q is not an address; write it like 0x8000", f.at)
	}
	if c.At, c.Counts = at, image.Counts(f.counts); c.Counts != "" && c.Counts != image.First && c.Counts != image.Last {
		return c, mistyped("--counts %q: expected first or last", f.counts)
	}
	if f.family != "" {
		n, err := strconv.ParseUint(f.family, 0, 32)
		if err != nil {
			return c, mistyped("--family %q is not a number of 32 bits; write it like 0x1234ABCD", f.family)
		}
		family := uint32(n)
		c.Family = &family
	}
	return c, nil
}

// open reads a firmware file.
func (f *fileChoice) open(name string) (*registry.Opened, *os.File, error) {
	c, err := f.choice()
	if err != nil {
		return nil, nil, err
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, nil, core.Fail(core.NotFound, "%w", err)
	}
	stat, err := file.Stat()
	if err != nil || stat.IsDir() {
		file.Close()
		return nil, nil, core.Fail(core.BadFile, "%s is not a file", name)
	}
	o, err := registry.Open(registry.Source{At: file, Size: stat.Size(), Name: filepath.Base(name)}, c)
	if err != nil {
		file.Close()
		return nil, nil, err
	}
	return o, file, nil
}

func (a *app) imageVerb() *cobra.Command {
	v := &cobra.Command{Use: "image", Short: "What is in a firmware file; how two differ; another format"}
	v.AddCommand(a.imageInspect(), a.imageDiff(), a.imageConvert())
	return v
}

func (a *app) imageInspect() *cobra.Command {
	var f fileChoice
	alone := false
	v := &cobra.Command{Use: "inspect FILE", Short: "What is in a firmware file, and whether the catalogue knows it", Args: cobra.ExactArgs(1),
		Long:    "Reads a firmware file of any format, also from a zip or gzip, and says what it holds.\nWithout FERRY_TOKEN no service is asked.",
		Example: "  ferry image inspect quill-80-4.2.1.hex\n  ferry image inspect printer.bin --at 0x8000 --output json",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			o, file, err := f.open(args[0])
			if err != nil {
				return err
			}
			defer file.Close()
			sum := sha256.New()
			n, err := io.Copy(sum, io.NewSectionReader(file, 0, 1<<62))
			if err != nil {
				return err
			}
			x := client.Inspection{Name: filepath.Base(args[0]), Format: o.Format.Name(), Bytes: n, SHA256: core.Digest(sum.Sum(nil)), Packed: o.Packed, Member: o.Member, Report: image.Describe(o.Image)}
			if a.token != "" && !alone {
				choice, _ := f.choice()
				if known, err := c.Inspect(ctx, file, n, x.Name, choice); err == nil {
					x.Known, x.Models = known.Known, known.Models
				} else {
					tell(a.err, "The service was not asked: %v\n", err)
				}
			}
			return a.show(x, func() { a.inspection(x, o.Image) })
		})}
	f.flags(v)
	v.Flags().BoolVar(&alone, "alone", false, "do not ask the service")
	return v
}

const lineWidth = 72

// addressLine draws segments over their addresses.
func addressLine(im *image.Image) string {
	from, to := im.Extent()
	var b strings.Builder
	for i := range uint64(lineWidth) {
		lo, hi := from+part(to-from, i), from+part(to-from, i+1)
		covered := uint64(0)
		for _, s := range im.Segments {
			if s.Address < hi && lo < s.End() {
				covered += min(hi, s.End()) - max(lo, s.Address)
			}
		}
		switch {
		case covered == 0 && hi > lo:
			b.WriteRune('·')
		case covered == hi-lo:
			b.WriteRune('█')
		default:
			b.WriteRune('▒')
		}
	}
	return b.String()
}

// part is i of lineWidth parts of n, without overflow.
func part(n, i uint64) uint64 { return n/lineWidth*i + n%lineWidth*i/lineWidth }

func (a *app) inspection(x client.Inspection, im *image.Image) {
	f, _ := registry.FormatNamed(x.Format)
	from, to := im.Extent()
	name := x.Name
	if x.Member != "" && x.Packed == "zip" {
		name += " › " + x.Member
	}
	tell(a.out, "%s  %s, %s bytes in %d %s\n\n", a.paint(bold, name), f.Title(), grouped(x.Payload), len(x.Segments), plural(len(x.Segments), "segment"))
	fmt.Fprintf(a.out, "  %s\n  0x%X%*s\n", a.paint(blue, addressLine(im)), from, lineWidth-2-len(fmt.Sprintf("%X", from)), fmt.Sprintf("0x%X", to-1))
	fmt.Fprintln(a.out)
	var rows [][]string
	for i, s := range x.Segments {
		if i == 12 {
			rows = append(rows, []string{told("and %d more", len(x.Segments)-i)})
			break
		}
		gap := ""
		if i > 0 {
			gap = told("%s free before", grouped(x.Gaps[i-1].Length))
		}
		rows = append(rows, []string{fmt.Sprintf("  0x%08X", s.Address), fmt.Sprintf("0x%08X", s.Address+s.Length-1), grouped(s.Length), short(s.SHA256.String()), gap})
	}
	a.table([]string{"  from", "to", "bytes", "SHA-256", ""}, rows)
	fmt.Fprintln(a.out)
	if x.Start != nil {
		a.pair("entry", fmt.Sprintf("0x%X", *x.Start))
	}
	for _, n := range x.Notes {
		a.pair(n.Name, n.Value)
	}
	for _, t := range x.Versions {
		a.pair("says", told("%q at 0x%X", t.Text, t.Address))
	}
	a.pair("file", told("%s bytes, SHA-256 %s", grouped(uint64(x.Bytes)), x.SHA256))
	a.pair("content", told("%s  the same in every format and under every name", short(x.Content.String())))
	for _, k := range x.Known {
		a.pair("catalogue", a.paint(teal, "✓ ")+k.Words())
	}
	if x.Known != nil && len(x.Known) == 0 {
		a.pair("catalogue", "not known")
	}
	for _, m := range x.Models {
		a.pair("memory", m.Words())
	}
	for _, w := range x.Warnings {
		a.pair("beware", wrap(w.Text, 13))
	}
}

func plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

func (a *app) imageDiff() *cobra.Command {
	var f fileChoice
	sector := uint64(4096)
	v := &cobra.Command{Use: "diff FILE FILE", Short: "How two firmware files differ, whatever their formats", Args: cobra.ExactArgs(2),
		Example: "  ferry image diff quill-80-4.1.6.hex quill-80-4.2.1.hex\n  ferry image diff old.s19 new.bin --at 0x8000 --sector 2048",
		RunE: func(_ *cobra.Command, args []string) error {
			x, file, err := f.open(args[0])
			if err != nil {
				return err
			}
			file.Close()
			y, file, err := f.open(args[1])
			if err != nil {
				return err
			}
			file.Close()
			d := image.Diff(x.Image, y.Image, sector)
			return a.show(d, func() { a.difference(filepath.Base(args[0]), filepath.Base(args[1]), d) })
		}}
	f.flags(v)
	v.Flags().Uint64Var(&sector, "sector", sector, "bytes of a cell")
	return v
}

var cellSigns = map[string]rune{image.Same: '─', image.Differs: '█', image.OnlyA: '◁', image.OnlyB: '▷'}

func (a *app) difference(nameA, nameB string, d image.Difference) {
	if d.Differs+d.OnlyA+d.OnlyB == 0 {
		tell(a.out, "%s The same image: %s bytes at the same addresses.\n", a.paint(teal, "✓"), grouped(d.Same))
		return
	}
	changed := 0
	for _, c := range d.Cells {
		if c.State != image.Same {
			changed++
		}
	}
	tell(a.out, "%s and %s: %d of %d sectors of %s bytes differ.\n\n", a.paint(bold, nameA), a.paint(bold, nameB), changed, len(d.Cells), grouped(d.Sector))
	per := (len(d.Cells) + 2*lineWidth - 1) / (2 * lineWidth)
	var b strings.Builder
	for i, n := 0, 0; i < len(d.Cells); i, n = i+per, n+1 {
		worst := d.Cells[i].State
		for _, c := range d.Cells[i:min(i+per, len(d.Cells))] {
			if c.State != worst {
				worst = image.Differs
			}
		}
		if n == lineWidth {
			b.WriteString("\n  ")
		}
		b.WriteRune(cellSigns[worst])
	}
	tell(a.out, "  %s\n  ─ same   █ differs   ◁ only in the first   ▷ only in the second", a.paint(blue, b.String()))
	if per > 1 {
		tell(a.out, "   one sign: %d sectors", per)
	}
	fmt.Fprint(a.out, "\n\n")
	a.pair("same", told("%s bytes", grouped(d.Same)))
	a.pair("differ", told("%s bytes", grouped(d.Differs)))
	a.pair("only first", told("%s bytes", grouped(d.OnlyA)))
	a.pair("only 2nd", told("%s bytes", grouped(d.OnlyB)))
	fmt.Fprintln(a.out)
	var rows [][]string
	for i, r := range d.Ranges {
		if i == 10 {
			rows = append(rows, []string{told("  and %s more ranges", grouped(uint64(len(d.Ranges)-i+d.More)))})
			break
		}
		rows = append(rows, []string{fmt.Sprintf("  0x%08X", r.Address), grouped(r.Length), dash(r.A), dash(r.B)})
	}
	a.table([]string{"  at", "bytes", "first", "second"}, rows)
}

func (a *app) imageConvert() *cobra.Command {
	var f fileChoice
	to, fill, replace := "", "0xFF", false
	v := &cobra.Command{Use: "convert FILE OUT", Short: "Write a firmware file in another format", Args: cobra.ExactArgs(2),
		Long:    "Writes the image of FILE into OUT. What the new format cannot carry is said.",
		Example: "  ferry image convert quill-80-4.2.1.hex quill.s19\n  ferry image convert quill.bin quill.uf2 --at 0x8000",
		RunE: func(_ *cobra.Command, args []string) error {
			o, file, err := f.open(args[0])
			if err != nil {
				return err
			}
			file.Close()
			format, err := formatOf(to, args[1])
			if err != nil {
				return err
			}
			n, err := strconv.ParseUint(fill, 0, 8)
			if err != nil {
				return mistyped("--fill wants a byte like 0xFF, not %q", fill)
			}
			gap := byte(n)
			lost, err := writeImage(args[1], replace, o.Image, format, image.Options{Fill: &gap})
			if err != nil {
				return err
			}
			return a.show(map[string]any{"from": o.Format.Name(), "to": format.Name(), "bytes": o.Image.Bytes(), "lost": append([]core.Said{}, lost...), "warnings": append([]core.Said{}, o.Image.Warnings...)}, func() {
				tell(a.out, "%s %s: %s, %s bytes of memory.\n", a.paint(teal, "✓"), args[1], format.Title(), grouped(o.Image.Bytes()))
				for _, w := range o.Image.Warnings {
					labelled(a.err, 7, "beware", wrap(w.Text, 10))
				}
				for _, l := range lost {
					labelled(a.err, 7, "lost", wrap(l.Text, 10))
				}
				if len(lost) == 0 {
					tell(a.err, "  Nothing was lost.\n")
				}
			})
		}}
	f.flags(v)
	v.Flags().StringVar(&to, "to", "", "the new format, instead of what OUT's ending says")
	v.Flags().StringVar(&fill, "fill", fill, "what stands in gaps, for formats that have none")
	v.Flags().BoolVar(&replace, "replace", false, "write over OUT if it is there")
	v.RegisterFlagCompletionFunc("to", cobra.FixedCompletions(formatNames(), cobra.ShellCompDirectiveNoFileComp))
	return v
}

func formatOf(name, file string) (image.Format, error) {
	if name != "" {
		return registry.FormatNamed(name)
	}
	ext := strings.ToLower(filepath.Ext(file))
	for _, f := range registry.Formats {
		for _, e := range f.Extensions() {
			if e == ext {
				return f, nil
			}
		}
	}
	return nil, mistyped("the ending of %q says no format; name one: --to FORMAT", file)
}

// writeImage writes a whole file or none.
func writeImage(name string, replace bool, im *image.Image, f image.Format, o image.Options) (lost []core.Said, err error) {
	how := os.O_WRONLY | os.O_CREATE | os.O_EXCL
	if replace {
		how = os.O_WRONLY | os.O_CREATE | os.O_TRUNC
	}
	out, err := os.OpenFile(name, how, 0o644)
	if os.IsExist(err) {
		return nil, core.Fail(core.NotAllowed, "%s is there already", name).Do("Choose another name, or add --replace.")
	}
	if err != nil {
		return nil, core.Fail(core.NotAllowed, "%w", err)
	}
	w := bufio.NewWriterSize(out, 1<<20)
	lost, err = image.Convert(w, im, f, o)
	if err == nil {
		err = w.Flush()
	}
	if e := out.Close(); err == nil {
		err = e
	}
	if err != nil {
		os.Remove(name)
	}
	return lost, err
}
