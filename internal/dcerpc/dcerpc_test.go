package dcerpc

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
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

func FuzzHandle(f *testing.F) {
	f.Add(bindPDU(srvsvcSyntax, ndrSyntax), requestPDU(opShareEnum, enumStub(1)))
	f.Add(requestPDU(opShareGetInfo, enumStub(0)), requestPDU(opServerGetInfo, enumStub(101)))
	f.Fuzz(func(_ *testing.T, first, second []byte) {
		c := NewConn(service(3))
		_, _ = c.Handle(bindPDU(srvsvcSyntax, ndrSyntax))
		_, _ = c.Handle(first)
		_, _ = c.Handle(second)
		_, _ = c.Handle(requestPDU(15, second))
	})
}
