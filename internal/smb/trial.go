package smb

import (
	"net"
	"net/netip"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/listen"
	"amber.example/gatekeeper/internal/ntlm"
)

// Trial is somebody as whom the service speaks to itself, to see what they would: over a connection inside of the process, which nobody else can reach,
// and with a secret that is good for that connection alone. Whatever is asked of accounts after the password is asked of them.
type Trial struct {
	User   identity.ID
	NTHash []byte // of the secret: MS-NLMP section 3.3.1
	From   netip.AddrPort
}

func (t *Trial) prove(compare func([]byte) bool) (identity.ID, error) {
	if !compare(t.NTHash) {
		return 0, ntlm.ErrWrong
	}
	return t.User, nil
}

// Try gives the client's end of a connection that is served as one from where the trial says. It is closed at once where nobody is served. What
// happens on it is no access event.
func (s *Server) Try(t Trial) net.Conn {
	client, server := listen.Inside(t.From)
	c := newConn(s, server)
	c.trial = &t
	s.begin(c)
	return client
}
