// Package browser drives a headless Chromium.
package browser

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Browser is a headless Chromium.
type Browser struct {
	ctx    context.Context
	cancel func()
	dir    string
}

// New starts Chromium, which must be installed.
func New() (*Browser, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, fmt.Errorf("chromium is missing: run scripts/need test: %w", err)
	}
	dir, err := os.MkdirTemp("", "ferry-browser-")
	if err != nil {
		return nil, err
	}
	options := []chromedp.ExecAllocatorOption{chromedp.ExecPath(path), chromedp.UserDataDir(dir)}
	for _, f := range []string{"no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "no-default-browser-check", "disable-background-networking",
		"disable-component-update", "disable-sync", "disable-extensions", "disable-dev-shm-usage", "hide-scrollbars",
		"disable-renderer-backgrounding", "disable-backgrounding-occluded-windows", "disable-background-timer-throttling"} {
		options = append(options, chromedp.Flag(f, true))
	}
	options = append(options, chromedp.Flag("headless", "new"), chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("font-render-hinting", "none"))
	alloc, stop := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, cancel := chromedp.NewContext(alloc, chromedp.WithErrorf(func(string, ...any) {})) // it complains of events that it does not know
	b := &Browser{ctx, func() { cancel(); stop(); os.RemoveAll(dir) }, dir}
	if err := chromedp.Run(ctx); err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// Close ends it.
func (b *Browser) Close() { b.cancel() }

// Tab is a tab; opening one forgets the cookies of those before. It keeps what went wrong in the page:
// errors on its console, and requests that leave this machine.
type Tab struct {
	context.Context
	cancel func()
	mu     sync.Mutex
	wrong  []string
	bytes  map[string]float64 // compressed script, by kind of resource
}

// Tab opens a tab of the given size.
func (b *Browser) Tab(width, height int, dark bool) (*Tab, error) {
	ctx, cancel := chromedp.NewContext(b.ctx)
	t := &Tab{Context: ctx, cancel: cancel, bytes: map[string]float64{}}
	kinds := map[network.RequestID]string{}
	chromedp.ListenTarget(ctx, func(ev any) {
		t.mu.Lock()
		defer t.mu.Unlock()
		switch e := ev.(type) {
		case *runtime.EventExceptionThrown:
			t.wrong = append(t.wrong, "exception: "+e.ExceptionDetails.Error())
		case *log.EventEntryAdded:
			if e.Entry.Level == log.LevelError && e.Entry.Source != log.SourceNetwork {
				t.wrong = append(t.wrong, "console: "+e.Entry.Text)
			}
		case *network.EventRequestWillBeSent:
			if u, err := url.Parse(e.Request.URL); err == nil && (u.Scheme == "http" || u.Scheme == "https" || u.Scheme == "ws") && u.Hostname() != "127.0.0.1" && u.Hostname() != "localhost" {
				t.wrong = append(t.wrong, "a request left the machine: "+e.Request.URL)
			}
			kinds[e.RequestID] = e.Type.String()
		case *network.EventLoadingFinished:
			t.bytes[kinds[e.RequestID]] += e.EncodedDataLength
		}
	})
	scheme := "light"
	if dark {
		scheme = "dark"
	}
	err := chromedp.Run(ctx, page.BringToFront(), network.Enable(), network.ClearBrowserCookies(), log.Enable(), runtime.Enable(), chromedp.EmulateViewport(int64(width), int64(height)),
		emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}))
	return t, err
}

// Close ends the tab.
func (t *Tab) Close() { t.cancel() }

// Wrong lists what went wrong so far.
func (t *Tab) Wrong() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append([]string(nil), t.wrong...)
}

// Loaded counts the bytes that came over the network, by kind of resource.
func (t *Tab) Loaded(kind string) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return int(t.bytes[kind])
}

// Do runs actions, at most within limit.
func (t *Tab) Do(limit time.Duration, actions ...chromedp.Action) error {
	ctx, cancel := context.WithTimeout(t.Context, limit)
	defer cancel()
	return chromedp.Run(ctx, actions...)
}

// Shot is a picture of what the tab shows, once fonts and transitions are done.
func (t *Tab) Shot() ([]byte, error) {
	var png []byte
	err := t.Do(15*time.Second, Until(`document.fonts.status === 'loaded'`),
		chromedp.Sleep(400*time.Millisecond),
		page.BringToFront(),
		chromedp.ActionFunc(func(ctx context.Context) (err error) {
			png, err = page.CaptureScreenshot().Do(ctx)
			return err
		}))
	return png, err
}

// Until waits until a script's expression is true.
func Until(expression string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for {
			var yes bool
			if err := chromedp.Evaluate(`!!(`+expression+`)`, &yes).Do(ctx); err == nil && yes {
				return nil
			}
			select {
			case <-ctx.Done():
				var text string
				fresh, cancel := context.WithTimeout(cdp.WithExecutor(context.Background(), cdp.ExecutorFromContext(ctx)), 2*time.Second)
				defer cancel()
				chromedp.Evaluate(`document.body.innerText`, &text).Do(fresh)
				return fmt.Errorf("waited for %s: %w; the page says: %.600s", expression, ctx.Err(), text)
			case <-time.After(30 * time.Millisecond):
			}
		}
	})
}
