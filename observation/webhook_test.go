package observation

import (
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/store"
)

// TestWebhooksLieWhereTheyMay: the same scheme, host and port, and whole parts of the path.
func TestWebhooksLieWhereTheyMay(t *testing.T) {
	list := []string{"https://harbour.example/hooks", "http://127.0.0.1:9000"}
	for address, want := range map[string]bool{
		"https://harbour.example/hooks":         true,
		"https://harbour.example/hooks/drift":   true,
		"https://Harbour.example:443/hooks/":    true,
		"http://127.0.0.1:9000/drift?key=1":     true,
		"https://harbour.example/hooks-of-mine": false,
		"https://harbour.example/":              false,
		"http://harbour.example/hooks":          false,
		"https://harbour.example:8443/hooks":    false,
		"https://other.harbour.example/hooks":   false,
		"https://harbour.example@evil/hooks":    false,
		"https://harbour.example/hooks/../x":    false,
		"https://harbour.example/hooks/%2e%2e":  false,
		"http://127.0.0.1:90001/":               false,
		"":                                      false,
	} {
		require.Equal(t, want, Allowed(address, list), address)
	}
	require.False(t, Allowed("http://127.0.0.1:9000/", nil), "nothing is allowed unless it is listed")
}

// TestTroubleDoesNotNameTheAddress, which may hold a secret.
func TestTroubleDoesNotNameTheAddress(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := "http://" + l.Addr().String() + "/secret"
	require.NoError(t, l.Close())
	n := &store.Notice{Drift: store.Drift{ID: 1, What: node, Subject: "siren"}, Webhook: address}
	err = post(context.Background(), n)
	require.ErrorContains(t, err, "refused")
	require.NotContains(t, err.Error(), "secret")
}
