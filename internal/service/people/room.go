// Package people is who may do what: accounts, sign-in, second factors, passkeys, the team's identity
// provider, sessions and tokens, and the log of all that is done about them.
package people

import (
	"log/slog"

	"github.com/prometheus/client_golang/prometheus"

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
	audited  *prometheus.CounterVec
	provider *Provider // nil where the team has none
}

// New makes the room. key signs and seals what is kept of people.
func New(f *frame.Frame, s *store.Store, key trust.Key) *People {
	v := &People{Frame: f, store: s, key: key, clock: f.Clock, log: f.Log, hashing: make(chan struct{}, 2),
		audited: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ferry_audit_total", Help: "Entries of the audit log by kind."}, []string{"kind"})}
	for kind := range words.Audit { // what begins with its first one has not increased
		v.audited.WithLabelValues(kind)
	}
	return v
}

// Collectors are what the room counts.
func (v *People) Collectors() []prometheus.Collector { return []prometheus.Collector{v.audited} }
