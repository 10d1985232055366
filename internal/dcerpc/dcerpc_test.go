package dcerpc

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/descriptor"
)

func bindPDU(abstract, transfer [20]byte) []byte {
	body := []byte{0xb8, 0x10, 0xb8, 0x10, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0}
	body = append(append(body, abstract[:]...), transfer[:]...)
	return pdu(pduBind, flagFirst|flagLast, 1, body)
}

func requestPDU(op uint16, stub []byte) []byte {
	body := make([]byte, 8)
	le.PutUint16(body[6:], op)
	return pdu(pduRequest, flagFirst|flagLast, 2, append(body, stub...))
}

func enumStub(level uint32) []byte {
	w := &writer{}
	for _, v := range []uint32{0, level, level, 1, 0, 0, 0xffffffff, 0} {
		w.u32(v)
	}
	return w.b
}

func service(n int) *ServerService {
	return &ServerService{Name: "larkfell", Shares: func() (out []Share) {
		for i := range n {
			out = append(out, Share{Name: fmt.Sprintf("plates-%d", i), Comment: "Raw plates"})
		}
		return out
	}}
}

func TestBindAndFaults(t *testing.T) {
	c := NewConn(service(1))
	out, err := c.Handle(requestPDU(opShareEnum, enumStub(1)))
	require.NoError(t, err)
	require.EqualValues(t, pduFault, out[0][2], "before a bind")
	out, err = c.Handle(bindPDU([20]byte{1}, ndrSyntax))
	require.NoError(t, err)
	require.EqualValues(t, providerReject, out[0][headerSize+8+2+len("\\PIPE\\srvsvc\x00")+1+4], "another interface")
	_, err = c.Handle(bindPDU(srvsvcSyntax, ndrSyntax))
	require.NoError(t, err)
	out, err = c.Handle(requestPDU(99, nil))
	require.NoError(t, err)
	require.EqualValues(t, faultOpRange, le.Uint32(out[0][headerSize+8:]))
	out, err = c.Handle(requestPDU(opShareEnum, []byte{1, 2, 3}))
	require.NoError(t, err)
	require.EqualValues(t, faultBadStub, le.Uint32(out[0][headerSize+8:]))
	out, err = c.Handle(requestPDU(opShareEnum, enumStub(503)))
	require.NoError(t, err)
	require.EqualValues(t, errorInvalidLevel, le.Uint32(out[0][len(out[0])-4:]))
}

// A long list comes in fragments that the client said it takes, and is whole.
func TestFragments(t *testing.T) {
	c := NewConn(service(500))
	_, err := c.Handle(bindPDU(srvsvcSyntax, ndrSyntax))
	require.NoError(t, err)
	out, err := c.Handle(requestPDU(opShareEnum, enumStub(1)))
	require.NoError(t, err)
	require.Greater(t, len(out), 5)
	var stub []byte
	for i, p := range out {
		require.LessOrEqual(t, len(p), 0x10b8)
		require.Equal(t, i == 0, p[3]&flagFirst != 0)
		require.Equal(t, i == len(out)-1, p[3]&flagLast != 0)
		stub = append(stub, p[headerSize+8:]...)
	}
	require.EqualValues(t, 500, le.Uint32(stub[12:]))
	require.Zero(t, le.Uint32(stub[len(stub)-4:]))
}

// directory has wren, who is in observers.
func directory() Directory {
	const domain descriptor.SID = "S-1-5-21-1-2-3"
	all := []Account{{Name: "wren", SID: domain.In(1001), Kind: KindUser, Full: "Wren Aldous"}, {Name: "observers", SID: domain.In(2001), Kind: KindGroup}}
	find := func(is func(a Account) bool) (Account, bool) {
		for _, a := range all {
			if is(a) {
				return a, true
			}
		}
		return Account{}, false
	}
	return Directory{Name: "larkfell", Domain: domain,
		ByName: func(name string) (Account, bool) { return find(func(a Account) bool { return a.Name == name }) },
		BySID:  func(sid descriptor.SID) (Account, bool) { return find(func(a Account) bool { return a.SID == sid }) },
		All:    func(uint16) ([]Account, bool) { return all, true }, GroupsOf: func(descriptor.SID) []Account { return all[1:] }}
}

// call asks one thing of a service that is bound, and gives the stub of the answer; nil for a fault.
func call(t require.TestingT, s Service, op uint16, stub []byte) []byte {
	c := NewConn(s)
	_, err := c.Handle(bindPDU(s.syntax(), ndrSyntax))
	require.NoError(t, err)
	out, err := c.Handle(requestPDU(op, stub))
	require.NoError(t, err)
	if out[0][2] == pduFault {
		return nil
	}
	return out[0][headerSize+8:]
}

func statusAt(stub []byte) uint32 { return le.Uint32(stub[len(stub)-4:]) }

// A handle that was never given is of no use, on any call; and a stub that ends early is no call.
func TestForgedHandles(t *testing.T) {
	d := directory()
	lsa, samr := &LocalAuthority{d}, &AccountManager{d}
	for _, forged := range []handle{{}, {4: 'x'}, handleOf('s', 7), handleOf('x', 0), handleOf(ofUser, 9999)} {
		w := &writer{}
		w.handle(forged)
		for range 8 {
			w.u32(0)
		}
		for _, op := range []uint16{lsaLookupNames, lsaLookupNames2, lsaLookupNames3, lsaLookupSIDs, lsaLookupSIDs2, lsaQueryPolicy, lsaQueryPolicy2} {
			require.EqualValues(t, ntInvalidHandle, statusAt(call(t, lsa, op, w.b)), "%d", op)
		}
		for _, op := range []uint16{samrLookupDomain, samrEnumerateDomains, samrEnumerateUsers, samrEnumerateAliases, samrLookupNames, samrLookupIDs, samrAliasMembership} {
			require.EqualValues(t, ntInvalidHandle, statusAt(call(t, samr, op, w.b)), "%d", op)
		}
		if forged != handleOf(ofUser, 9999) {
			require.EqualValues(t, ntInvalidHandle, statusAt(call(t, samr, samrQueryUser, w.b)))
			require.EqualValues(t, ntInvalidHandle, statusAt(call(t, samr, samrGroupsOfUser, w.b)))
		}
	}
	for _, op := range []uint16{lsaLookupNames, lsaLookupSIDs} {
		require.Nil(t, call(t, lsa, op, policyHandle[:]), "%d: it ends early", op)
	}
	w := &writer{}
	w.handle(policyHandle)
	w.u32(1 << 30) // as many names
	require.Nil(t, call(t, lsa, lsaLookupNames, w.b))
	require.Nil(t, call(t, samr, 999, nil))
}

// What a look-up says of how many of the names it found: all, some, none.
func TestLookedUp(t *testing.T) {
	d := directory()
	for names, want := range map[string]uint32{"wren": ntOK, "wren,observers": ntOK, "wren,nobody": ntSomeNotMapped, "nobody": ntNoneMapped, "nobody,noone": ntNoneMapped} {
		asked := strings.Split(names, ",")
		list := func(w *writer, each func(i int)) {
			w.list(len(asked), each)
			w.whole()
			w.u32(0) // none translated yet
			w.null()
			w.u32(1) // LsapLookupWksta
			for range 3 {
				w.u32(0)
			}
		}
		for _, op := range []uint16{lsaLookupNames, lsaLookupNames2, lsaLookupNames3} {
			w := &writer{}
			w.handle(policyHandle)
			w.u32(uint32(len(asked)))
			w.array(len(asked), func(i int) { w.counted(asked[i]) })
			w.whole()
			stub := call(t, &LocalAuthority{d}, op, w.b)
			require.Equal(t, want, statusAt(stub), "%s by %d", names, op)
			require.EqualValues(t, len(asked)-strings.Count(names, "no"), le.Uint32(stub[len(stub)-8:]), "%s by %d", names, op)
		}
		for _, op := range []uint16{lsaLookupSIDs, lsaLookupSIDs2} {
			w := &writer{}
			w.handle(policyHandle)
			list(w, func(i int) {
				sid := d.Domain.In(4711)
				if a, known := d.ByName(asked[i]); known {
					sid = a.SID
				}
				w.pointer(func() { w.sid(sid) })
			})
			require.Equal(t, want, statusAt(call(t, &LocalAuthority{d}, op, w.b)), "%s by %d", names, op)
		}
		w := &writer{}
		w.handle(handleOf(ofDomain, 0))
		for _, n := range []int{len(asked), 1000, 0, len(asked)} {
			w.u32(uint32(n))
		}
		for _, name := range asked {
			w.counted(name)
		}
		w.whole()
		require.Equal(t, want, statusAt(call(t, &AccountManager{d}, samrLookupNames, w.b)), names)
	}
}

func TestWhatThereIsToAdministrators(t *testing.T) {
	plain := service(2)
	for _, level := range []uint32{2, 502} {
		require.EqualValues(t, errorAccessDenied, statusAt(call(t, plain, opShareEnum, enumStub(level))))
	}
	admin := service(2)
	admin.Admin = &Administration{Shares: admin.Shares, Sessions: func() []Session { return []Session{{Client: "192.0.2.7", User: "wren"}} }, End: func(string, string) bool { return true },
		Files: func() []File { return []File{{ID: 7, Path: "nightlog", User: "wren"}} }, Close: func(id uint32) bool { return id == 7 }}
	for _, level := range []uint32{0, 1, 2, 501, 502} {
		require.Zero(t, statusAt(call(t, admin, opShareEnum, enumStub(level))), "%d", level)
	}
	// Of nobody in particular, no session is ended.
	w := &writer{}
	for range 3 {
		w.null()
	}
	require.EqualValues(t, errorNoSuchClient, statusAt(call(t, admin, opSessionDel, w.b)))
	w.u32(7)
	require.NotNil(t, call(t, admin, opFileClose, append([]byte{0, 0, 0, 0}, 7, 0, 0, 0)))
	require.EqualValues(t, errorFileNotFound, statusAt(call(t, admin, opFileClose, []byte{0, 0, 0, 0, 8, 0, 0, 0})))
	require.EqualValues(t, errorAccessDenied, statusAt(call(t, plain, opFileClose, []byte{0, 0, 0, 0, 7, 0, 0, 0})))
}

func FuzzHandle(f *testing.F) {
	f.Add(bindPDU(srvsvcSyntax, ndrSyntax), requestPDU(opShareEnum, enumStub(1)))
	f.Add(requestPDU(opShareGetInfo, enumStub(0)), requestPDU(opServerGetInfo, enumStub(101)))
	for _, op := range []uint16{lsaOpenPolicy2, lsaLookupNames3, lsaLookupSIDs2, lsaQueryPolicy2, samrConnect5, samrOpenDomain, samrLookupNames, samrAliasMembership} {
		f.Add(requestPDU(op, policyHandle[:]), requestPDU(op, append(policyHandle[:], make([]byte, 64)...)))
	}
	d := directory()
	f.Fuzz(func(_ *testing.T, first, second []byte) {
		for _, s := range []Service{service(3), &LocalAuthority{d}, &AccountManager{d}} {
			c := NewConn(s)
			_, _ = c.Handle(bindPDU(s.syntax(), ndrSyntax))
			_, _ = c.Handle(first)
			_, _ = c.Handle(second)
			_, _ = c.Handle(requestPDU(15, second))
			if len(second) > 1 {
				_, _ = c.Handle(requestPDU(uint16(second[0]), second[1:]))
			}
		}
	})
}
