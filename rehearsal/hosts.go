package rehearsal

import (
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// HostAllowed reports whether a request's Host is one that somebody on this machine
// would write: an address, localhost, or a name that was allowed. A page on the web whose
// name an attacker has pointed at this machine (rebinding) comes with that name.
func HostAllowed(host string, names []string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.ToLower(strings.Trim(strings.TrimSuffix(host, "."), "[]"))
	if _, err := netip.ParseAddr(host); err == nil || host == "localhost" || host == "" {
		return true
	}
	for _, name := range names {
		if strings.EqualFold(name, host) {
			return true
		}
	}
	return false
}

// hostChecked refuses requests by names that nobody allowed.
func hostChecked(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if !HostAllowed(req.Host, nil) {
			problem(
				w,
				http.StatusMisdirectedRequest,
				"this rehearsal answers to localhost and to addresses, not to the name "+req.Host,
			)
			return
		}
		next.ServeHTTP(w, req)
	})
}
