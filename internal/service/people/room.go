// Package people is who may do what: accounts, sign-in, second factors, passkeys, the team's identity
// provider, sessions and tokens, and the log of all that is done about them.
package people

import (
	"log/slog"

	"github.com/VictoriaMetrics/metrics"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// People is the room of accounts and of the audit log.
type People struct {
	*frame.Frame
	store    *store.Store
	key      trust.Key
	clock    core.Clock
	log      *slog.Logger
	proxies  Proxies
	hashing  chan struct{} // bounds the memory of password checks
	provider *Provider     // nil where the team has none
	sendings sendings
}

// New makes the room. key signs and seals what is kept of people.
func New(f *frame.Frame, s *store.Store, key trust.Key) *People {
	v := &People{Frame: f, store: s, key: key, clock: f.Clock, log: f.Log, hashing: make(chan struct{}, 2)}
	for kind := range words.Audit { // what begins with its first one has not increased
		v.audited(kind)
	}
	return v
}

// audited counts entries of the audit log, by kind.
func (v *People) audited(kind string) *metrics.Counter {
	return v.Counter("ferry_audit_total", "kind", kind)
}
