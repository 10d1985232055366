package trying

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/cloudsoda/go-smb2"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/secret"
	door "amber.example/gatekeeper/internal/smb"
)

// overSMB goes in by a share, as a desktop does.
func (t *try) overSMB(ctx context.Context) {
	t.way.Through = t.through(ctx)
	early, because := t.early(ctx)
	var random [16]byte
	rand.Read(random[:])
	once := hex.EncodeToString(random[:])
	conn := t.doors.SMB(door.Trial{User: t.user.ID, NTHash: secret.NTHash(once), From: t.from})
	defer conn.Close()
	_ = conn.SetDeadline(deadline(ctx))
	dialer := smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: t.user.Name, Password: once}}
	session, err := dialer.DialConn(ctx, conn, "gateway")
	if !t.note("signs in", said(err), early == access.Passed, early, because) {
		return
	}
	defer session.Logoff()
	session = session.WithContext(ctx)
	share, err := session.Mount(t.way.Through)
	root, gate, because := t.atRoot(ctx)
	if !t.note("opens the share "+t.way.Through, said(err), root, gate, because) {
		return
	}
	defer share.Umount()
	share = share.WithContext(ctx)
	where := strings.ReplaceAll(plain.Unspell(t.at.Path), "/", `\`)
	if t.at.File {
		t.fileOverSMB(ctx, share, where)
		return
	}
	_, err = share.ReadDir(where)
	t.step(ctx, "lists the directory", t.at.Path, acl.ListDirectory, said(err))
	if t.q.Look {
		return
	}
	name := strings.TrimPrefix(where+`\`+t.name, `\`)
	f, err := share.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	t.made = err == nil
	if !t.grow(ctx, "makes a file there", t.at.Path, acl.AddFile, said(err)) {
		return
	}
	is := content()
	_, err = f.Write(is)
	err = errors.Join(err, f.Close())
	wrote := t.fill(ctx, said(err))
	if read, err := share.Open(name); err != nil {
		t.step(ctx, "reads it back", t.file(), acl.ReadData, said(err))
	} else {
		was, err := io.ReadAll(io.LimitReader(read, mostTried+1))
		read.Close()
		if err == nil && wrote && !bytes.Equal(was, is) {
			err = errOtherwise
		}
		t.step(ctx, "reads it back", t.file(), acl.ReadData, said(err))
	}
	allowed, gate, reason := t.mayRemove(ctx)
	t.note("removes it", said(share.Remove(name)), allowed, gate, reason)
}

// atRoot is whether a share is opened at all: who is granted anything at its root does.
func (t *try) atRoot(ctx context.Context) (opens bool, gate access.Gate, reason string) {
	a, err := t.why(ctx, "", acl.All)
	if err != nil {
		return false, access.Passed, "the audit cannot say"
	}
	if a.Verdict.Granted != 0 {
		return true, access.Passed, ""
	}
	_, gate, reason = t.asked(ctx, "", acl.ListDirectory) // what people want there
	return false, gate, reason
}

func (t *try) fileOverSMB(ctx context.Context, share *smb2.Share, where string) {
	f, err := share.Open(where)
	if err == nil {
		_, err = f.Read(make([]byte, 1))
		if errors.Is(err, io.EOF) {
			err = nil
		}
		f.Close()
	}
	t.step(ctx, "reads the file", t.at.Path, acl.ReadData, said(err))
	if t.q.Look {
		return
	}
	f, err = share.OpenFile(where, os.O_WRONLY, 0)
	if err == nil {
		err = f.Close()
	}
	t.step(ctx, "opens it to write, and writes nothing", t.at.Path, acl.WriteData|acl.AppendData|acl.WriteAttributes|acl.WriteNamedAttrs, said(err))
}

var errOtherwise = errors.New("what is read is not what was written")

// statusWords say what a refusal over SMB means (MS-ERREF section 2.3).
var statusWords = map[uint32]string{
	0xc0000022: "access denied",
	0xc000006d: "the sign-in fails",
	0xc000006e: "the account is restricted",
	0xc0000072: "the account is disabled",
	0xc0000193: "the account is over, or has not begun",
	0xc000015b: "that kind of sign-in is not granted",
	0xc00000cc: "there is no such share",
	0xc0000034: "there is no such name",
	0xc000003a: "there is no such path",
	0xc000007f: "the disk is full",
	0xc0000043: "somebody has it open",
	0xc0000044: noRoom,
	0xc0000802: noRoom,
	0xc00000a2: "it is write-protected",
	0xc0000121: "it cannot be deleted",
	0xc0000033: "the name cannot be said",
}

// said says what an error over SMB means; "" for none.
func said(err error) string {
	if err == nil {
		return ""
	}
	if r := (*smb2.ResponseError)(nil); errors.As(err, &r) {
		if words, known := statusWords[r.Code]; known {
			return words
		}
		return fmt.Sprintf("refused with status 0x%08x", r.Code)
	}
	if lost := (*smb2.TransportError)(nil); errors.As(err, &lost) {
		return closed
	}
	switch { // some the library tells in its own way
	case errors.Is(err, os.ErrPermission):
		return statusWords[0xc0000022]
	case errors.Is(err, os.ErrNotExist):
		return statusWords[0xc0000034]
	case errors.Is(err, os.ErrExist):
		return "it is there already"
	}
	return lost(err)
}
