package ntlm

import (
	"bytes"
	"crypto/hmac"
	"encoding/asn1"
)

var (
	oidSPNEGO = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 2}
	oidNTLM   = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 2, 10}
)

const (
	stateCompleted  asn1.Enumerated = 0
	stateIncomplete asn1.Enumerated = 1
)

// negTokenInit is RFC 4178 section 4.2.1.
type negTokenInit struct {
	MechTypes   []asn1.ObjectIdentifier `asn1:"explicit,tag:0"`
	ReqFlags    asn1.BitString          `asn1:"explicit,optional,tag:1"`
	MechToken   []byte                  `asn1:"explicit,optional,omitempty,tag:2"`
	MechListMIC []byte                  `asn1:"explicit,optional,omitempty,tag:3"`
}

// negTokenResp is RFC 4178 section 4.2.2.
type negTokenResp struct {
	NegState      asn1.Enumerated       `asn1:"explicit,optional,tag:0,default:-1"`
	SupportedMech asn1.ObjectIdentifier `asn1:"explicit,optional,omitempty,tag:1"`
	ResponseToken []byte                `asn1:"explicit,optional,omitempty,tag:2"`
	MechListMIC   []byte                `asn1:"explicit,optional,omitempty,tag:3"`
}

// Hint is what a server offers before the client speaks: SPNEGO with NTLM.
func Hint() []byte {
	init, err := asn1.Marshal(negTokenInit{MechTypes: []asn1.ObjectIdentifier{oidNTLM}})
	if err != nil {
		panic(err) // a constant
	}
	body := wrap(asn1.ClassContextSpecific, 0, init)
	oid, err := asn1.Marshal(oidSPNEGO)
	if err != nil {
		panic(err)
	}
	return wrap(asn1.ClassApplication, 0, append(oid, body...))
}

func wrap(class, tag int, content []byte) []byte {
	out, err := asn1.Marshal(asn1.RawValue{Class: class, Tag: tag, IsCompound: true, Bytes: content})
	if err != nil {
		panic(err) // only for contents beyond 2^31 bytes
	}
	return out
}

// SignIn is the server's side of one sign-in, over SPNEGO or bare NTLM, whichever
// the client begins with.
type SignIn struct {
	ntlm     exchange
	bare     bool
	mechList []byte // as the client sent it: what mechListMIC covers
	begun    bool
	steps    int
}

// New begins a sign-in to a server of that name.
func New(serverName string) *SignIn { return &SignIn{ntlm: exchange{serverName: serverName}} }

// User is the name that was, or is being, signed in.
func (s *SignIn) User() string { return s.ntlm.user }

// Key is the 16-byte session key, once Step has said done.
func (s *SignIn) Key() []byte { return s.ntlm.key }

// LetNobodyIn has who gives no name and no proof be asked about by may: nil lets them in (MS-NLMP section 3.2.5.1.2). Both sides have no key then
// that others would not have as well.
func (s *SignIn) LetNobodyIn(may func() error) { s.ntlm.nobody = may }

// Anonymous says that whoever signed in gave no name and no proof. There is no Key.
func (s *SignIn) Anonymous() bool { return s.ntlm.anonymous }

func parseResp(token []byte) (negTokenResp, error) {
	var outer asn1.RawValue
	resp := negTokenResp{}
	if _, err := asn1.Unmarshal(token, &outer); err != nil || outer.Class != asn1.ClassContextSpecific || outer.Tag != 1 {
		return resp, ErrMalformed
	}
	if _, err := asn1.Unmarshal(outer.Bytes, &resp); err != nil {
		return resp, ErrMalformed
	}
	return resp, nil
}

// Step takes the client's next token and gives the answer to it. done is true
// once the client has proved who it is; an error ends the sign-in.
func (s *SignIn) Step(token []byte, creds Credentials) (reply []byte, done bool, err error) {
	if s.steps++; s.steps > 4 || len(token) > longestMessage {
		return nil, false, ErrMalformed
	}
	switch {
	case bytes.HasPrefix(token, []byte(signature)):
		s.bare = true
		return s.step(token, creds, nil)
	case len(token) > 0 && token[0] == 0x60:
		return s.first(token, creds)
	default:
		resp, err := parseResp(token)
		if err != nil {
			return nil, false, err
		}
		return s.step(resp.ResponseToken, creds, resp.MechListMIC)
	}
}

func (s *SignIn) first(token []byte, creds Credentials) ([]byte, bool, error) {
	var outer, body asn1.RawValue
	var oid asn1.ObjectIdentifier
	if _, err := asn1.Unmarshal(token, &outer); err != nil || outer.Class != asn1.ClassApplication {
		return nil, false, ErrMalformed
	}
	rest, err := asn1.Unmarshal(outer.Bytes, &oid)
	if err != nil || !oid.Equal(oidSPNEGO) {
		return nil, false, ErrMalformed
	}
	if _, err := asn1.Unmarshal(rest, &body); err != nil || body.Class != asn1.ClassContextSpecific || body.Tag != 0 {
		return nil, false, ErrMalformed
	}
	var init negTokenInit
	if _, err := asn1.Unmarshal(body.Bytes, &init); err != nil || len(init.MechTypes) == 0 {
		return nil, false, ErrMalformed
	}
	if s.mechList, err = asn1.Marshal(init.MechTypes); err != nil {
		return nil, false, ErrMalformed
	}
	if init.MechTypes[0].Equal(oidNTLM) && len(init.MechToken) > 0 {
		return s.step(init.MechToken, creds, init.MechListMIC)
	}
	for _, mech := range init.MechTypes {
		if mech.Equal(oidNTLM) { // it would rather have another: say which it can have
			return respond(negTokenResp{NegState: stateIncomplete, SupportedMech: oidNTLM}), false, nil
		}
	}
	return nil, false, ErrWrong
}

func respond(r negTokenResp) []byte {
	out, err := asn1.Marshal(r)
	if err != nil {
		panic(err) // fields are all ours
	}
	return wrap(asn1.ClassContextSpecific, 1, out)
}

func (s *SignIn) step(msg []byte, creds Credentials, mic []byte) ([]byte, bool, error) {
	if !s.begun {
		challenge, err := s.ntlm.begin(msg)
		if err != nil {
			return nil, false, err
		}
		s.begun = true
		if s.bare {
			return challenge, false, nil
		}
		return respond(negTokenResp{NegState: stateIncomplete, SupportedMech: oidNTLM, ResponseToken: challenge}), false, nil
	}
	if err := s.ntlm.finish(msg, creds); err != nil {
		return nil, false, err
	}
	if s.bare {
		return nil, true, nil
	}
	r := negTokenResp{NegState: stateCompleted}
	if len(mic) > 0 && !s.ntlm.anonymous {
		if !hmac.Equal(mic, s.ntlm.sign("client-to-server", s.mechList)) {
			return nil, false, ErrWrong
		}
		r.MechListMIC = s.ntlm.sign("server-to-client", s.mechList)
	}
	return respond(r), true, nil
}
