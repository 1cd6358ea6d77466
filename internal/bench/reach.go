package bench

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"time"

	"zealousferry/core"
)

const (
	reachLasts = 5 * time.Second // one question to a unit on the network
	reachMost  = 64 << 10
	saysWithin = time.Second // of a port that speaks first
)

// Reach asks a unit on the network. No redirection is followed: what another device says is
// not the unit's word.
func (j *job) Reach(ctx context.Context, address, path string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, reachLasts)
	defer cancel()
	away := func(err error) error {
		return core.Fail(core.NotAnswering, "nobody answers at %s: %w", address, err).Do("See that bench and unit are on the same network, and that the unit has started.")
	}
	if path == "" {
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
		if err != nil {
			return nil, away(err)
		}
		defer c.Close()
		c.SetReadDeadline(time.Now().Add(saysWithin))
		said, err := io.ReadAll(io.LimitReader(c, reachMost))
		if errors.Is(err, os.ErrDeadlineExceeded) { // it says no more
			err = nil
		}
		return said, err
	}
	r, err := http.NewRequestWithContext(ctx, "GET", "http://"+address+path, nil)
	if err != nil {
		return nil, core.Fail(core.BadFile, "%s%s is no address of a page: %w", address, path, err)
	}
	web := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{DisableKeepAlives: true, Proxy: nil}}
	resp, err := web.Do(r)
	if err != nil {
		return nil, away(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, core.Fail(core.NotAnswering, "%s%s answers %s", address, path, resp.Status)
	}
	return io.ReadAll(io.LimitReader(resp.Body, reachMost))
}
