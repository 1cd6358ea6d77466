// Command pictures takes pictures of the console of a running demo, for
// docs/screenshots and for looking at a page while it is made:
//
//	go run ./internal/demo/pictures [-size 1280x800] [-dark] [-wait SELECTOR] [-press SELECTOR] PATH FILE [PATH FILE...]
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit/browser"
)

func main() {
	size := flag.String("size", "1280x800", "width and height")
	dark := flag.Bool("dark", false, "dark")
	wait := flag.String("wait", "h1, [data-board]", "what must be there")
	scroll := flag.Int("scroll", 0, "scroll down by so many pixels")
	settle := flag.Duration("settle", 0, "wait so long more")
	var files []string
	flag.Func("file", "SELECTOR=FILE to give to an input of the page; may be given again", func(s string) error { files = append(files, s); return nil })
	press := flag.String("press", "", "SELECTOR of what is clicked first")
	flag.Parse()
	if err := shoot(*size, *dark, *wait, *press, *scroll, *settle, files, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func shoot(size string, dark bool, wait, press string, scroll int, settle time.Duration, files, args []string) error {
	base, token := os.Getenv("FERRY_URL"), os.Getenv("FERRY_TOKEN")
	var w, h int
	fmt.Sscanf(size, "%dx%d", &w, &h)
	b, err := browser.New()
	if err != nil {
		return err
	}
	defer b.Close()
	tab, err := b.Tab(w, h, dark)
	if err != nil {
		return err
	}
	defer tab.Close()
	code, err := client.New(base, token, core.System{}).NewSignInCode(context.Background())
	if err != nil {
		return err
	}
	if err := tab.Do(20*time.Second, chromedp.Navigate(base+"/sign-in#"+code.Code), browser.Until(`location.pathname === "/today"`)); err != nil {
		fmt.Println(tab.Wrong())
		return err
	}
	for ; len(args) >= 2; args = args[2:] {
		steps := []chromedp.Action{chromedp.Navigate(base + args[0]), browser.Until(fmt.Sprintf(`document.querySelector(%q)`, wait))}
		for _, f := range files {
			input, name, _ := strings.Cut(f, "=")
			steps = append(steps, browser.Until(fmt.Sprintf(`document.querySelector(%q)`, input)), chromedp.SetUploadFiles(input, []string{name}, chromedp.ByQuery), chromedp.Sleep(time.Second))
		}
		if press != "" {
			steps = append(steps, browser.Until(fmt.Sprintf(`document.querySelector(%q)`, press)), chromedp.Click(press, chromedp.ByQuery))
		}
		err := tab.Do(60*time.Second, append(steps, chromedp.Sleep(800*time.Millisecond+settle),
			chromedp.Evaluate(fmt.Sprintf(`window.scrollTo(0, %d)`, scroll), nil))...)
		if err != nil {
			return err
		}
		png, err := tab.Shot()
		if err != nil {
			return err
		}
		if err := os.WriteFile(args[1], png, 0o644); err != nil {
			return err
		}
	}
	for _, x := range tab.Wrong() {
		fmt.Fprintln(os.Stderr, "in the page:", x)
	}
	return nil
}
