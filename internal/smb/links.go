package smb

import (
	"strings"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// Symbolic links, on shares that tell clients of them. On disk their targets have slashes; on the wire, backslashes, and names as other names are
// spelled there. A target that begins at the root is one that begins with a backslash.

func targetToWire(target string) []byte {
	return message.UTF16(wirePath(target))
}

// targetFromWire is false for a target that is no path: one on a drive, or at another server.
func targetFromWire(l *message.SymbolicLink) (string, bool) {
	s, ok := message.Text(l.Target)
	if !ok || !l.Relative || s == "" {
		return "", false
	}
	names := strings.Split(s, `\`)
	for i, n := range names {
		if n == "" || n == "." || n == ".." {
			continue
		}
		plain, status := pathFrom(n)
		if status != statusOK {
			return "", false
		}
		names[i] = plain
	}
	return strings.Join(names, "/"), true
}

// linkMet tells a client of a link on its way.
func (r *request) linkMet(met *files.LinkMet) *reply {
	m := message.LinkMet{SymbolicLink: linkTo(met.Target)}
	if met.Rest != "" {
		m.Unread = uint16(len(message.UTF16(`\` + wirePath(met.Rest))))
	}
	return answer(m.Error(r.c.dialect == dialect311))
}

func linkTo(target string) message.SymbolicLink {
	to := targetToWire(target)
	return message.SymbolicLink{Target: to, Shown: to, Relative: true}
}

// tagOf is the reparse tag of a link.
func tagOf(i files.Info) uint32 {
	if i.Link {
		return message.TagSymbolicLink
	}
	return 0
}

// getLink is FSCTL_GET_REPARSE_POINT, MS-FSA section 2.1.5.10.12.
func (r *request) getLink(o *open, m *message.IoctlRequest) (*reply, error) {
	if !o.handle.Linked() {
		return nil, statusNotAReparsePoint
	}
	target, err := o.handle.Target()
	if err != nil {
		return nil, err
	}
	l := linkTo(target)
	out := l.Append(nil)
	if int(m.MaxOutput) < len(out) {
		return nil, statusBufferTooSmall
	}
	return controlled(m, out), nil
}

// setLink is FSCTL_SET_REPARSE_POINT, MS-FSA section 2.1.5.10.37.
func (r *request) setLink(o *open, m *message.IoctlRequest) (*reply, error) {
	var l message.SymbolicLink
	if l.Parse(m.Input) != nil {
		if len(m.Input) >= 8 && le.Uint32(m.Input) != message.TagSymbolicLink {
			return nil, statusNotSupported
		}
		return nil, statusReparseInvalid
	}
	target, ok := targetFromWire(&l)
	if !ok {
		return nil, statusReparseInvalid
	}
	if err := o.handle.SetTarget(r.c.ctx, target); err != nil {
		return nil, err
	}
	return controlled(m, nil), nil
}
