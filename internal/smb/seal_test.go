package smb

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/smb/message"
)

// pairOfSeals is a session of a server, and the same as its client has it: what one seals the other opens.
func pairOfSeals(t require.TestingT, dialect, number uint16) (c *conn, server, client *session) {
	c = &conn{sessions: make(map[uint64]*session)}
	make := func() *session {
		s := &session{id: 77, conn: c}
		s.established.Store(true)
		var err error
		s.sealing, err = newSealing(dialect, number, bytes.Repeat([]byte{7}, 16), [64]byte{1})
		require.NoError(t, err)
		return s
	}
	server, client = make(), make()
	client.sealing.in, client.sealing.out = client.sealing.out, client.sealing.in
	c.sessions[server.id] = server
	return c, server, client
}

var ciphersOf = map[uint16][]uint16{dialect30: {cipherCCM128}, dialect302: {cipherCCM128}, dialect311: {cipherCCM128, cipherGCM128, cipherCCM256, cipherGCM256}}

func plainMessage(size int, fill byte) []byte {
	m := bytes.Repeat([]byte{fill}, message.HeaderSize+size)
	copy(m, "\xfeSMB")
	return m
}

func frameOf(parts [][]byte) []byte { return bytes.Join(parts, nil) }

// Whatever is sealed is opened as it was, by each cipher, of any length; and any bit of it that is another is noticed, wherever it stands.
func TestSealsHold(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		dialect := rapid.SampledFrom([]uint16{dialect30, dialect302, dialect311}).Draw(r, "dialect")
		number := rapid.SampledFrom(ciphersOf[dialect]).Draw(r, "cipher")
		c, server, client := pairOfSeals(r, dialect, number)
		msg := plainMessage(rapid.OneOf(rapid.IntRange(0, 70), rapid.IntRange(0, 70_000)).Draw(r, "size"), byte(rapid.Uint8().Draw(r, "fill")))
		frame := frameOf(client.seal([][]byte{bytes.Clone(msg)}))
		require.False(r, bytes.Contains(frame, msg[4:message.HeaderSize]))
		bad := bytes.Clone(frame)
		at := rapid.IntRange(0, len(bad)-1).Draw(r, "at")
		bad[at] ^= 1 << rapid.IntRange(0, 7).Draw(r, "bit")
		if message.IsTransform(bad) {
			_, _, ok := c.unseal(bad)
			require.False(r, ok, "byte %d of %d", at, len(frame))
		}
		got, of, ok := c.unseal(bytes.Clone(frame))
		require.True(r, ok)
		require.Equal(r, msg, got)
		require.Same(r, server, of)
		cut := frame[:rapid.IntRange(0, len(frame)-1).Draw(r, "cut off")]
		_, _, ok = c.unseal(bytes.Clone(cut))
		require.False(r, ok)
	})
}

// What is sealed by one's own key of the other direction, in another seal, for a session that is not there or not signed in yet, is not opened.
func TestSealsThatAreNoneOfTheirs(t *testing.T) {
	c, server, client := pairOfSeals(t, dialect311, cipherGCM128)
	frame := func(s *session, msg []byte) []byte { return frameOf(s.seal([][]byte{bytes.Clone(msg)})) }
	refused := func(f []byte, why string) {
		t.Helper()
		_, _, ok := c.unseal(f)
		require.False(t, ok, why)
	}
	msg := plainMessage(100, 3)
	refused(frame(server, msg), "the server's own, sent back")
	refused(frame(client, frame(client, msg)), "one within another")
	head := frame(client, msg)
	head[42] = 0
	refused(head, "not marked as encrypted")
	server.established.Store(false)
	refused(frame(client, msg), "not signed in")
	server.established.Store(true)
	client.id = 78
	refused(frame(client, msg), "of no session")
	client.id = 77
	server.sealing = nil
	refused(frame(client, msg), "no cipher was agreed on")
}

// No two messages of a session have the same nonce; and keys of both directions are others.
func TestNoncesAreUsedOnce(t *testing.T) {
	for _, number := range ciphersOf[dialect311] {
		_, server, _ := pairOfSeals(t, dialect311, number)
		seen := make(map[string]bool)
		for range 2000 {
			head := server.seal([][]byte{plainMessage(0, 1)})[0]
			nonce := string(head[20:36])
			require.False(t, seen[nonce])
			seen[nonce] = true
		}
		same := plainMessage(20, 9)
		nonce := make([]byte, server.sealing.in.NonceSize())
		require.NotEqual(t, server.sealing.in.Seal(nil, nonce, same, nil), server.sealing.out.Seal(nil, nonce, same, nil))
	}
}

// Several answers of one frame are sealed as one, whether there is room behind the first or not, and are what they were.
func TestAChainIsSealedAsOne(t *testing.T) {
	for _, room := range []int{0, 1 << 16} {
		c, server, client := pairOfSeals(t, dialect311, cipherGCM256)
		first := append(make([]byte, 0, message.HeaderSize+40+room), plainMessage(40, 1)...)
		second := plainMessage(7, 2)
		want := append(bytes.Clone(first), second...)
		frame := frameOf(client.seal([][]byte{first, second}))
		got, _, ok := c.unseal(frame)
		require.True(t, ok)
		require.Equal(t, want, got)
		require.Equal(t, plainMessage(7, 2), second)
		_ = server
	}
}

func TestTheClientsOrderOfCiphers(t *testing.T) {
	list := func(n ...uint16) []byte {
		b := le.AppendUint16(nil, uint16(len(n)))
		for _, c := range n {
			b = le.AppendUint16(b, c)
		}
		return b
	}
	require.EqualValues(t, cipherGCM256, chooseCipher(list(cipherGCM256, cipherGCM128)))
	require.EqualValues(t, cipherGCM128, chooseCipher(list(9, cipherGCM128, cipherGCM256)))
	require.Zero(t, chooseCipher(list(0, 5, 9)))
	require.Zero(t, chooseCipher(list()))
	require.Zero(t, chooseCipher([]byte{200, 0, 9, 0}), "more than there are")
	require.Zero(t, chooseCipher(nil))
}

// Before SMB 3.0, and where no cipher was agreed on, nothing is sealed.
func TestNoSealWithoutACipher(t *testing.T) {
	for _, c := range []struct{ dialect, number uint16 }{{dialect21, cipherCCM128}, {dialect311, 0}} {
		s, err := newSealing(c.dialect, c.number, make([]byte, 16), [64]byte{})
		require.NoError(t, err)
		require.Nil(t, s)
	}
}

// Whatever comes in the place of a sealed frame, it is opened or not, and nothing else happens.
func FuzzUnseal(f *testing.F) {
	c, _, client := pairOfSeals(f, dialect311, cipherGCM128)
	f.Add(frameOf(client.seal([][]byte{plainMessage(10, 1)})))
	f.Add(append([]byte("\xfdSMB"), make([]byte, 200)...))
	f.Fuzz(func(t *testing.T, frame []byte) {
		if message.IsTransform(frame) {
			if msg, s, ok := c.unseal(bytes.Clone(frame)); ok && (s == nil || len(msg) < message.HeaderSize) {
				t.Fatal("it was opened, and is nothing")
			}
		}
	})
}

// Where everything is encrypted, so is what is asked on pipes and of a share that is elsewhere: the path in it is told to nobody on the way.
func TestWhatIsInNoFolderIsSealedWithAllElse(t *testing.T) {
	for _, all := range []bool{false, true} {
		p, err := site.Compile(site.Records{Services: site.Services{SMB: true, SMBEncrypted: all}})
		require.NoError(t, err)
		s := &Server{Config: Config{Policy: func() *site.Policy { return p }}}
		for _, at := range []*tree{{}, {led: `\\vault\old`}} {
			require.Equal(t, all, s.sealsShare(at), "%+v", at)
		}
	}
}
