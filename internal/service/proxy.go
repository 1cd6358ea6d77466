package service

import (
	"net"
	"net/http"
	"net/netip"
	"strings"

	"zealousferry/core"
)

// Proxies are the addresses of what stands in front of this service, speaks TLS with those who
// ask, and says from where they came. What anybody else says of that does not count.
type Proxies []netip.Prefix

// ParseProxies reads addresses and networks, with commas: 127.0.0.1,10.4.0.0/24.
func ParseProxies(list string) (all Proxies, err error) {
	for s := range strings.SplitSeq(list, ",") {
		s = strings.TrimSpace(s)
		p, err := netip.ParsePrefix(s)
		if a, one := netip.ParseAddr(s); one == nil {
			p, err = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
		}
		if err != nil {
			return nil, core.Fail(core.NotUnderstood, "%q is no address and no network of a proxy", s).Do("Write it as 127.0.0.1 or 10.4.0.0/24, several with commas.")
		}
		all = append(all, p.Masked())
	}
	return all, nil
}

// UseProxies has the service stand behind proxies: browsers reach it over TLS, and who asks is
// whom they name.
func (v *Service) UseProxies(all Proxies) { v.proxies, v.secure = all, true }

func (p Proxies) has(address string) bool {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	for _, x := range p {
		if x.Contains(a.Unmap()) {
			return true
		}
	}
	return false
}

// from is the address of whoever asks: the one on the other end of the line, or, where that is a
// proxy, the last one that a proxy was asked by and that is none itself. It is empty where a proxy
// does not say: then it is nobody's, and above all not this machine's.
func (p Proxies) from(r *http.Request) string {
	at, _, _ := net.SplitHostPort(r.RemoteAddr)
	if !p.has(at) {
		return at
	}
	chain := forwarded(r.Header)
	for i := len(chain) - 1; i >= 0; i-- {
		if !p.has(chain[i]) {
			return chain[i]
		}
	}
	return ""
}

// forwarded are the addresses that proxies have noted, the nearest last: by RFC 7239, section 4,
// or in the header that was used before it, which many still write. What is no address ends it:
// what stands before that cannot be known.
func forwarded(h http.Header) (all []string) {
	var nodes []string
	if lines := h.Values("Forwarded"); len(lines) > 0 {
		for element := range strings.SplitSeq(strings.Join(lines, ","), ",") {
			node := ""
			for pair := range strings.SplitSeq(element, ";") {
				if name, value, _ := strings.Cut(strings.TrimSpace(pair), "="); strings.EqualFold(name, "for") {
					node = strings.Trim(value, `"`)
				}
			}
			nodes = append(nodes, node)
		}
	} else {
		for node := range strings.SplitSeq(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
			nodes = append(nodes, strings.TrimSpace(node))
		}
	}
	for _, n := range nodes {
		if host, _, err := net.SplitHostPort(n); err == nil {
			n = host
		}
		a, err := netip.ParseAddr(strings.Trim(n, "[]"))
		if err != nil {
			all = all[:0]
			continue
		}
		all = append(all, a.Unmap().String())
	}
	return all
}
