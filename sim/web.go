package sim

import (
	"fmt"
	"net"
	"net/http"
	"time"
)

// serveWeb is the unit's own web page, while its program is at work: who it is and which
// version. A unit that starts slowly answers only after its time; otherwise nobody does.
func (u *Unit) serveWeb(l net.Listener) {
	s := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		version, up := u.version(), u.powered && !u.inLoader && !u.faults.HeldReset && u.clock.Now().Sub(u.began) >= u.scaled(u.WebAfter)
		u.mu.Unlock()
		if !up || version == "" {
			panic(http.ErrAbortHandler)
		}
		fmt.Fprintf(w, "<h1>%s %s</h1>\n<p>program %s</p>\n", u.Says, u.Serial, version)
	})}
	go s.Serve(l)
	<-u.ended
	s.Close()
}

// WebAddress is where the unit's own page is; empty where it has none.
func (u *Unit) WebAddress() string {
	if u.web == nil {
		return ""
	}
	return u.web.Addr().String()
}
