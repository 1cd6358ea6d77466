package run

import (
	"context"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/settings"
)

// reachEvery is how long the tool waits before it asks a slow starter again, and reached how
// much of what it said is kept.
const (
	reachEvery = time.Second
	reached    = 120
)

// reach asks the unit where its users meet it, until it says what it should or its time is
// over. A part of the text that is named version must be what the program should be, and one
// that is named serial the unit's own: neither what ran before nor another unit passes for it.
func (r *Run) reach(ctx context.Context, item *model.Item) (string, error) {
	host, err := r.address(item.Where)
	if err != nil {
		return "", err
	}
	pattern, err := regexp.Compile(item.Text)
	if err != nil {
		return "", core.Fail(core.BadFile, "%s: %w", item.ID, err)
	}
	address := net.JoinHostPort(host, strconv.Itoa(item.Port))
	end := r.pace.Clock.Now().Add(r.pace.Scaled(item.Within))
	for {
		said, err := r.bench.Reach(ctx, address, item.Path)
		if err == nil {
			var is string
			if is, err = r.saysWell(pattern, said, address); err == nil {
				return is, nil
			}
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if r.pace.Clock.Now().After(end) {
			return "", err
		}
		select {
		case <-r.pace.Clock.After(r.pace.Scaled(reachEvery)):
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
}

// saysWell holds what came against what should.
func (r *Run) saysWell(pattern *regexp.Regexp, said []byte, address string) (string, error) {
	m := pattern.FindSubmatch(said)
	if m == nil {
		return "", core.Fail(core.VerifyDiffers, "what answers at %s does not say %q", address, pattern).Do("Look at the unit with your own eyes: another device may have its address.")
	}
	if i := pattern.SubexpIndex("version"); i > 0 {
		want := r.expects(r.journal.State().Main())
		if is := string(m[i]); want != "" && is != want {
			return "", core.Fail(core.VerifyDiffers, "what answers at %s says that it is %q, expected %s", address, is, want).Do("Start the unit again; then see which of them has that address.")
		}
	}
	if i := pattern.SubexpIndex("serial"); i > 0 {
		if is := string(m[i]); is != "" && is != r.journal.State().Opened.Serial {
			return "", core.Fail(core.WrongUnit, "what answers at %s says that it is %s; the run is of %s", address, is, r.journal.State().Opened.Serial).Do("See which of them has that address.")
		}
	}
	is := strings.Join(strings.Fields(string(m[0])), " ")
	if is == "" {
		is = "it answers at " + address
	}
	return is[:min(len(is), reached)], nil
}

// address is where the unit is on the network: as the sheet says, or as it is set.
func (r *Run) address(where string) (string, error) {
	if net.ParseIP(where) != nil {
		return where, nil
	}
	for _, x := range r.journal.State().Sections {
		var all []settings.Value
		if x.Settled != nil {
			all = append(all, x.Settled.Now...)
		}
		if x.Settings != nil {
			all = append(all, x.Settings.Settings...)
		}
		i := slices.IndexFunc(all, func(v settings.Value) bool { return v.Name == where && !v.Sealed })
		if i >= 0 && all[i].Value != "" {
			return all[i].Value, nil
		}
	}
	return "", core.Fail(core.NotFound, "nobody knows the unit's address: it does not tell its setting %s", where)
}
