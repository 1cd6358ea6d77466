package people

import (
	"cmp"
	"net"
	"net/http"
	"net/netip"
	"slices"
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
func (v *People) UseProxies(all Proxies) { v.proxies, v.Secure = all, true }

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
	standard, older := p.nearest(standardNodes(r.Header)), p.nearest(olderNodes(r.Header))
	who := cmp.Or(standard, older)
	if len(r.Header.Values("Forwarded")) > 0 && len(r.Header.Values("X-Forwarded-For")) > 0 && standard != older {
		return "" // a proxy adds to one of the two, and the other is as the browser wrote it: which is which cannot be known
	}
	if a, err := netip.ParseAddr(who); err != nil || a.IsLoopback() { // nobody becomes this machine by coming through a proxy
		return ""
	}
	return who
}

// nearest is the last of some nodes that is no proxy. What is no address ends them: what stands
// before that cannot be known.
func (p Proxies) nearest(nodes []string) string {
	for _, n := range slices.Backward(nodes) {
		if host, _, err := net.SplitHostPort(n); err == nil {
			n = host
		}
		a, err := netip.ParseAddr(strings.Trim(n, "[]"))
		if err != nil {
			return ""
		}
		if n = a.Unmap().String(); !p.has(n) {
			return n
		}
	}
	return ""
}

// standardNodes are those that proxies have noted by RFC 7239, section 4, the nearest last.
func standardNodes(h http.Header) (nodes []string) {
	for element := range strings.SplitSeq(strings.Join(h.Values("Forwarded"), ","), ",") {
		node := ""
		for pair := range strings.SplitSeq(element, ";") {
			if name, value, _ := strings.Cut(strings.TrimSpace(pair), "="); strings.EqualFold(name, "for") {
				node = strings.Trim(value, `"`)
			}
		}
		nodes = append(nodes, node)
	}
	return nodes
}

// olderNodes are those in the header that was used before the standard, which many still write.
func olderNodes(h http.Header) (nodes []string) {
	for node := range strings.SplitSeq(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
		nodes = append(nodes, strings.TrimSpace(node))
	}
	return nodes
}
