package cli

import (
	"crypto/tls"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificate is that of the service, read anew when its files were renewed: whoever renews it
// does not have to start the service again.
type certificate struct {
	chain, key string
	log        *slog.Logger

	mu   sync.Mutex
	at   time.Time // when the chain's file was changed that is in use
	pair *tls.Certificate
}

// get gives the one for a connection. A renewed one that cannot be read leaves the old one in use.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	info, err := os.Stat(c.chain)
	if err == nil && c.pair != nil && info.ModTime().Equal(c.at) {
		return c.pair, nil
	}
	if err == nil {
		var pair tls.Certificate
		if pair, err = tls.LoadX509KeyPair(c.chain, c.key); err == nil {
			if c.pair != nil {
				c.log.Info("the certificate was renewed", "file", c.chain)
			}
			c.pair, c.at = &pair, info.ModTime()
			return c.pair, nil
		}
	}
	if c.pair == nil {
		return nil, err
	}
	c.log.Error("the renewed certificate cannot be read; the old one stays in use", "file", c.chain, "error", err)
	return c.pair, nil
}
