package message

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

type part interface {
	Parse(b []byte) error
	Append(b []byte) []byte
}

// asks and answers are the bodies of requests and of responses, by command.
var (
	asks = map[Command]part{
		Negotiate: &NegotiateRequest{}, SessionSetup: &SessionSetupRequest{}, Logoff: &Empty{}, TreeConnect: &TreeConnectRequest{},
		TreeDisconnect: &Empty{}, Create: &CreateRequest{}, Close: &CloseRequest{}, Flush: &FlushRequest{}, Read: &ReadRequest{}, Write: &WriteRequest{},
		Lock: &LockRequest{}, Ioctl: &IoctlRequest{}, Cancel: &Empty{}, Echo: &Empty{}, QueryDirectory: &QueryDirectoryRequest{},
		ChangeNotify: &ChangeNotifyRequest{}, QueryInfo: &QueryInfoRequest{}, SetInfo: &SetInfoRequest{},
	}
	answers = map[Command]part{
		Negotiate: &NegotiateResponse{}, SessionSetup: &SessionSetupResponse{}, Logoff: &Empty{}, TreeConnect: &TreeConnectResponse{},
		TreeDisconnect: &Empty{}, Create: &CreateResponse{}, Close: &CloseResponse{}, Flush: &Empty{}, Read: &ReadResponse{}, Write: &WriteResponse{},
		Lock: &Empty{}, Ioctl: &IoctlResponse{}, Echo: &Empty{}, QueryDirectory: &DataResponse{}, ChangeNotify: &DataResponse{}, QueryInfo: &DataResponse{},
		SetInfo: &SetInfoResponse{},
	}
	// inside are what goes in them.
	inside = []part{
		&ValidateNegotiateRequest{}, &ValidateNegotiateResponse{}, &BasicInfo{}, &StandardInfo{}, &AllInfo{}, &NetworkOpenInfo{}, &Streams{}, &Notifications{},
		&RenameInfo{}, new(Number8), new(Number4), &Lease{}, &DurableV2{}, &Reconnect{}, &AttributeTagInfo{}, &IDInfo{}, &VolumeLabel{}, &VolumeKind{}, &QuotaQuery{}, &Quotas{},
		new(ResumeKey), &CopyChunks{}, &CopiedChunks{}, &SharedExtent{}, &Extent{}, &Snapshots{}, &SymbolicLink{}, &LinkMet{}, &ReferralRequestEx{}, &MacQuery{},
	}
)

func fresh(p part) part { return reflect.New(reflect.TypeOf(p).Elem()).Interface().(part) }

const interim, moreToDo, overflow = 0x103, 0xc0000016, 0x80000005

// bodyFor gives what reads the body of a message.
func bodyFor(h *Header) part {
	switch {
	case h.Flags&FlagResponse == 0:
		return fresh(asks[h.Command])
	case h.Status == 0 || h.Status == overflow || h.Status == moreToDo && h.Command == SessionSetup:
		return fresh(answers[h.Command])
	}
	return &ErrorResponse{}
}

type said struct {
	file string
	way  string
	msg  []byte
}

// captured gives the messages of the conversations that were taken down, one by one.
func captured(t testing.TB) (out []said) {
	files, err := filepath.Glob("../testdata/captured/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		f, err := os.Open(file)
		require.NoError(t, err)
		lines := bufio.NewScanner(f)
		lines.Buffer(nil, 1<<22)
		for lines.Scan() {
			way, text, _ := strings.Cut(lines.Text(), " ")
			frame, err := hex.DecodeString(text)
			if way == "#" || IsSMB1(frame) {
				continue
			}
			require.NoError(t, err)
			for {
				var h Header
				require.NoError(t, h.Parse(frame))
				msg := frame
				if h.Next != 0 {
					msg, frame = frame[:h.Next], frame[h.Next:]
				}
				out = append(out, said{filepath.Base(file), way, msg})
				if h.Next == 0 {
					break
				}
			}
		}
		require.NoError(t, lines.Err())
		f.Close()
	}
	return out
}

// What other people's clients say is read, and said again it is read the same. What was said to them is made again byte for byte.
func TestCapturedMessages(t *testing.T) {
	kinds := make(map[string]int)
	for i, s := range captured(t) {
		var h Header
		require.NoError(t, h.Parse(s.msg))
		again := h.Append(nil)
		if h.Flags&FlagAsync == 0 {
			copy(again[32:36], s.msg[32:36]) // reserved
		}
		require.Equal(t, s.msg[:HeaderSize], again)
		m := bodyFor(&h)
		require.NoError(t, m.Parse(s.msg), "%s, message %d: %v %T", s.file, i, h.Command, m)
		made := m.Append(again)
		if s.way == "<" {
			want := s.msg
			if h.Next != 0 { // what is between two messages
				want = want[:len(made)]
			}
			require.Equal(t, hex.EncodeToString(want), hex.EncodeToString(made), "%s, message %d: %T", s.file, i, m)
		}
		twice := fresh(m)
		require.NoError(t, twice.Parse(made))
		require.Equal(t, m, twice, "%s, message %d", s.file, i)
		kinds[fmt.Sprintf("%T", m)]++
	}
	for _, want := range []part{&NegotiateRequest{}, &NegotiateResponse{}, &SessionSetupRequest{}, &TreeConnectRequest{}, &CreateRequest{}, &CreateResponse{}, &CloseRequest{},
		&CloseResponse{}, &ReadRequest{}, &ReadResponse{}, &WriteRequest{}, &WriteResponse{}, &QueryDirectoryRequest{}, &DataResponse{}, &SetInfoRequest{}, &IoctlRequest{}, &ErrorResponse{}} {
		require.NotZero(t, kinds[fmt.Sprintf("%T", want)], "%T in %v", want, kinds)
	}
}

// holds says that whatever bytes are read as a part, the same is read from what it then is written as; and that a shorter one is refused or is
// another one, but never read beyond its end.
func holds(t testing.TB, p part, whole bool, b []byte) {
	first := fresh(p)
	if first.Parse(b[:len(b):len(b)]) != nil {
		return
	}
	var head []byte
	if whole {
		head = make([]byte, HeaderSize)
	}
	made := first.Append(head)
	second := fresh(p)
	if err := second.Parse(made); err != nil {
		t.Fatalf("%T %+v is written as %x, which is refused", p, first, made)
	}
	require.Equal(t, spelled(first), spelled(second))
}

// spelled is all that a part has; nothing and a list of nothing are the same.
func spelled(p part) string { return fmt.Sprintf("%+v", reflect.ValueOf(p).Elem()) }

func fuzz(f *testing.F, p part, whole bool) {
	if whole {
		for _, s := range captured(f) {
			var h Header
			if h.Parse(s.msg) == nil && reflect.TypeOf(bodyFor(&h)) == reflect.TypeOf(p) {
				f.Add(s.msg)
			}
		}
	}
	f.Add(make([]byte, 200))
	f.Fuzz(func(t *testing.T, b []byte) { holds(t, p, whole, b) })
}

func FuzzNegotiateRequest(f *testing.F)     { fuzz(f, &NegotiateRequest{}, true) }
func FuzzNegotiateResponse(f *testing.F)    { fuzz(f, &NegotiateResponse{}, true) }
func FuzzSessionSetupRequest(f *testing.F)  { fuzz(f, &SessionSetupRequest{}, true) }
func FuzzSessionSetupResponse(f *testing.F) { fuzz(f, &SessionSetupResponse{}, true) }
func FuzzTreeConnectRequest(f *testing.F)   { fuzz(f, &TreeConnectRequest{}, true) }
func FuzzTreeConnectResponse(f *testing.F)  { fuzz(f, &TreeConnectResponse{}, true) }
func FuzzCreateRequest(f *testing.F)        { fuzz(f, &CreateRequest{}, true) }
func FuzzCreateResponse(f *testing.F)       { fuzz(f, &CreateResponse{}, true) }
func FuzzCloseRequest(f *testing.F)         { fuzz(f, &CloseRequest{}, true) }
func FuzzCloseResponse(f *testing.F)        { fuzz(f, &CloseResponse{}, true) }
func FuzzFlushRequest(f *testing.F)         { fuzz(f, &FlushRequest{}, true) }
func FuzzReadRequest(f *testing.F)          { fuzz(f, &ReadRequest{}, true) }
func FuzzReadResponse(f *testing.F)         { fuzz(f, &ReadResponse{}, true) }
func FuzzWriteRequest(f *testing.F)         { fuzz(f, &WriteRequest{}, true) }
func FuzzWriteResponse(f *testing.F)        { fuzz(f, &WriteResponse{}, true) }
func FuzzLockRequest(f *testing.F)          { fuzz(f, &LockRequest{}, true) }
func FuzzIoctlRequest(f *testing.F)         { fuzz(f, &IoctlRequest{}, true) }
func FuzzIoctlResponse(f *testing.F)        { fuzz(f, &IoctlResponse{}, true) }
func FuzzQueryDirectoryRequest(f *testing.F) {
	fuzz(f, &QueryDirectoryRequest{}, true)
}
func FuzzDataResponse(f *testing.F)        { fuzz(f, &DataResponse{}, true) }
func FuzzChangeNotifyRequest(f *testing.F) { fuzz(f, &ChangeNotifyRequest{}, true) }
func FuzzQueryInfoRequest(f *testing.F)    { fuzz(f, &QueryInfoRequest{}, true) }
func FuzzSetInfoRequest(f *testing.F)      { fuzz(f, &SetInfoRequest{}, true) }
func FuzzErrorResponse(f *testing.F)       { fuzz(f, &ErrorResponse{}, true) }
func FuzzOplockBreak(f *testing.F)         { fuzz(f, &OplockBreakMessage{}, true) }
func FuzzLeaseBreakNotification(f *testing.F) {
	fuzz(f, &LeaseBreakNotification{}, true)
}
func FuzzLeaseBreakAnswer(f *testing.F) { fuzz(f, &LeaseBreakAnswer{}, true) }
func FuzzHeader(f *testing.F)           { fuzz(f, &Header{}, false) }
func FuzzTransform(f *testing.F)        { fuzz(f, &Transform{}, false) }

func FuzzCopyChunks(f *testing.F)      { fuzz(f, &CopyChunks{}, false) }
func FuzzSharedExtent(f *testing.F)    { fuzz(f, &SharedExtent{}, false) }
func FuzzExtent(f *testing.F)          { fuzz(f, &Extent{}, false) }
func FuzzSymbolicLink(f *testing.F)    { fuzz(f, &SymbolicLink{}, false) }
func FuzzLinkMet(f *testing.F)         { fuzz(f, &LinkMet{}, false) }
func FuzzReferral(f *testing.F)        { fuzz(f, &Referral{}, false) }
func FuzzReferralRequest(f *testing.F) { fuzz(f, &ReferralRequest{}, false) }
func FuzzReferralRequestEx(f *testing.F) {
	fuzz(f, &ReferralRequestEx{}, false)
}
func FuzzMacQuery(f *testing.F)  { fuzz(f, &MacQuery{}, false) }
func FuzzSnapshots(f *testing.F) { fuzz(f, &Snapshots{}, false) }

// FuzzInside is for what goes in messages: which says which.
func FuzzInside(f *testing.F) {
	for i, p := range inside {
		f.Add(byte(i), p.Append(nil))
	}
	f.Fuzz(func(t *testing.T, which byte, b []byte) { holds(t, inside[int(which)%len(inside)], false, b) })
}

func FuzzDirectory(f *testing.F) {
	f.Add(byte(FileIDBothDirectoryInfo), make([]byte, 200))
	f.Fuzz(func(t *testing.T, class byte, b []byte) {
		if ListsNames(class) {
			_, _ = ParseDirectory(class, b)
		}
	})
}

// Every message with numbers, lists and texts drawn is read as it was written; and with any byte altered or cut off it is refused, or read
// as another message, and never as anything beyond its end.
func TestEveryMessageIsReadAsWritten(t *testing.T) {
	all := make([]part, 0, 64)
	for _, m := range asks {
		all = append(all, m)
	}
	for _, m := range answers {
		all = append(all, m)
	}
	all = append(all, &OplockBreakMessage{}, &LeaseBreakNotification{}, &LeaseBreakAnswer{})
	rapid.Check(t, func(r *rapid.T) {
		whole := rapid.Bool().Draw(r, "a message")
		p := rapid.SampledFrom(inside).Draw(r, "what is inside")
		var head []byte
		if whole {
			p, head = rapid.SampledFrom(all).Draw(r, "message"), make([]byte, HeaderSize)
		}
		m := fresh(p)
		draw(r, reflect.ValueOf(m).Elem(), "")
		made := m.Append(head)
		got := fresh(p)
		require.NoError(r, got.Parse(made), "%T %+v", m, m)
		require.Equal(r, spelled(m), spelled(got))
		for range 4 {
			bad := append([]byte{}, made[:rapid.IntRange(0, len(made)).Draw(r, "cut off")]...)
			if len(bad) > 0 {
				bad[rapid.IntRange(0, len(bad)-1).Draw(r, "at")] ^= byte(1 << rapid.IntRange(0, 7).Draw(r, "bit"))
			}
			holds(t, p, whole, bad)
		}
	})
}

// draw fills in what a message has.
func draw(r *rapid.T, v reflect.Value, name string) {
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			draw(r, v.Field(i), v.Type().Field(i).Name)
		}
		if c, ok := v.Addr().Interface().(*NegotiateResponse); ok && c.Dialect != dialect311 {
			c.Contexts = nil
		}
		if c, ok := v.Addr().Interface().(*Lease); ok && !c.Second {
			c.Parent, c.Epoch = [16]byte{}, 0
		}
		if c, ok := v.Addr().Interface().(*Reconnect); ok && !c.Second {
			c.Create, c.Flags = [16]byte{}, 0
		}
		if c, ok := v.Addr().Interface().(*NegotiateRequest); ok && len(c.Contexts) > 0 {
			c.Dialects = append(c.Dialects, dialect311)
		}
	case reflect.Bool:
		v.SetBool(rapid.Bool().Draw(r, name))
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		n := rapid.Uint64().Draw(r, name)
		if name == "Dialect" {
			n = rapid.SampledFrom([]uint64{0x0210, dialect311}).Draw(r, name)
		}
		v.SetUint(n & (1<<v.Type().Bits() - 1))
	case reflect.String:
		v.SetString(string(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(r, name)))
	case reflect.Array:
		for i := range v.Len() {
			draw(r, v.Index(i), name)
		}
	case reflect.Slice:
		least, most := 0, 5
		switch name {
		case "SID":
			least, most = shortestSID, longestSID
		case "Dialects", "Locks":
			least = 1
		}
		n := rapid.IntRange(least, most).Draw(r, "length of "+name)
		if n == 0 {
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), n, n))
		of := ""
		if name == "SIDs" {
			of = "SID"
		}
		for i := range n {
			draw(r, v.Index(i), of)
		}
	}
}

// A list of names is as long as there is room, and is read as it was made.
func TestDirectoryFillsItsRoom(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		class := rapid.SampledFrom([]byte{FileDirectoryInfo, FileFullDirectoryInfo, FileIDFullDirectoryInfo, FileBothDirectoryInfo, FileIDBothDirectoryInfo, FileNamesInfo}).Draw(r, "class")
		room := rapid.IntRange(0, 900).Draw(r, "room")
		l, added := NewDirectory(), 0
		var want []DirectoryEntry
		for range 20 {
			e := DirectoryEntry{Name: UTF16(rapid.StringN(1, 12, -1).Draw(r, "name"))}
			if class != FileNamesInfo {
				e.Size, e.Attributes, e.Created = rapid.Uint64().Draw(r, "size"), 0x20, 7
			}
			if class == FileIDBothDirectoryInfo || class == FileIDFullDirectoryInfo {
				e.File = rapid.Uint64().Draw(r, "number")
			}
			before := append([]byte{}, l.Bytes()...)
			if !l.AddName(class, &e, room) {
				require.Equal(r, before, append([]byte{}, l.Bytes()...), "what does not fit changes nothing")
				break
			}
			added++
			want = append(want, e)
		}
		require.LessOrEqual(r, len(l.Bytes()), room)
		got, err := ParseDirectory(class, l.Bytes())
		require.NoError(r, err)
		require.Equal(r, want, got)
	})
}

func TestFiletime(t *testing.T) {
	at := time.Date(2026, 3, 1, 22, 10, 5, 123456700, time.UTC)
	require.True(t, at.Equal(Time(Filetime(at))))
	require.EqualValues(t, 116444736000000000, Filetime(time.Unix(0, 0))) // MS-DTYP section 2.3.3
	require.True(t, Time(0).IsZero() && Time(^uint64(0)).IsZero())
}

func TestHalfASurrogateIsNoText(t *testing.T) {
	_, ok := Text([]byte{0, 0xd8})
	require.False(t, ok)
	_, ok = Text([]byte{'a'})
	require.False(t, ok)
}
