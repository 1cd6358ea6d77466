package client

import (
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"strings"

	"zealousferry/core"
)

// KeyOf is the pin of a certificate: the SHA-256 of its public key as it stands in it (RFC 7469,
// section 2.4). A renewed certificate of the same key has the same.
func KeyOf(c *x509.Certificate) core.Digest { return core.DigestOf(c.RawSubjectPublicKeyInfo) }

// PinTo has the client take a service for the team's by the key of its certificate alone: it is
// one of these, whoever has signed the certificate.
func (c *Client) PinTo(keys []core.Digest) {
	if len(keys) == 0 {
		return
	}
	c.http.Transport.(*http.Transport).TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // what counts is the key: VerifyConnection
		VerifyConnection: func(s tls.ConnectionState) error {
			shown := KeyOf(s.PeerCertificates[0])
			for _, k := range keys {
				if k == shown {
					return nil
				}
			}
			return core.Fail(core.NotAnswering, "whoever answers as %s shows the key %s, and is not believed: it is none of those that are pinned here", s.ServerName, shown).
				Do("Ask whoever looks after the service whether its certificate has a new key, and which: ferry doctor says it there. Then pin that one.")
		}}
}

// ParsePins reads pins, several with commas.
func ParsePins(list string) (all []core.Digest, err error) {
	for s := range strings.SplitSeq(list, ",") {
		d, err := core.ParseDigest(strings.ToLower(strings.ReplaceAll(strings.TrimSpace(s), " ", "")))
		if err != nil {
			return nil, core.Fail(core.NotUnderstood, "%q is no pin: %w", s, err).Do("Take it from ferry doctor at the service's machine, several with commas.")
		}
		all = append(all, d)
	}
	return all, nil
}
