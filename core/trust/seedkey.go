package trust

import (
	"crypto/hmac"
	"crypto/sha256"

	"zealousferry/core"
)

// KeyRules name the ways in which a module's seed becomes the key of its security access
// (ISO 14229-1, service 0x27: the way itself is each maker's own).
var KeyRules = []string{HMAC}

// HMAC is HMAC-SHA-256 (RFC 2104) of the level and the seed under the secret, cut to as
// many bytes as the key has.
const HMAC = "hmac-sha-256"

// SeedKey makes the key of a seed.
func SeedKey(rule, secret string, level byte, seed []byte, length int) ([]byte, error) {
	if rule != HMAC {
		return nil, core.Fail(core.NotFound, "there is no rule %q for keys; there is %s", rule, HMAC)
	}
	if length < 1 || length > sha256.Size {
		return nil, core.Fail(core.BadFile, "a key has 1 to %d bytes, not %d", sha256.Size, length)
	}
	h := hmac.New(sha256.New, []byte(secret))
	h.Write([]byte{level})
	h.Write(seed)
	return h.Sum(nil)[:length], nil
}
