package smb

import (
	"errors"
	"strings"
	"sync"
	"sync/atomic"

	"amber.example/gatekeeper/internal/dcerpc"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// pipe is an open named pipe on which RPC is spoken.
type pipe struct {
	name string
	mu   sync.Mutex
	rpc  *dcerpc.Conn
	out  [][]byte // whole messages not read yet
	c    *conn
	room room // that they take

	closed atomic.Bool
}

var errBusy = errors.New("unread answers")

const mostUnread = 1 << 20

func (p *pipe) write(msg []byte) error {
	p.mu.Lock()
	defer p.unlock()
	if p.room.n > mostUnread {
		return errBusy
	}
	out, err := p.rpc.Handle(msg)
	more := 0
	for _, m := range out {
		more += len(m)
	}
	if !p.room.take(p.c, p.room.n+more) {
		return errBusy
	}
	p.out = append(p.out, out...)
	return err
}

// close is not to wait for a call that is under way on the pipe: that may be one that ends the session whose pipe it is, or one that waits
// for another such.
func (p *pipe) close() {
	p.closed.Store(true)
	if p.mu.TryLock() {
		p.unlock()
	}
}

func (p *pipe) unlock() {
	for {
		gone := p.closed.Load()
		if gone {
			p.out = nil
			p.room.give()
		}
		p.mu.Unlock()
		if gone || !p.closed.Load() || !p.mu.TryLock() { // closed just now, by somebody who could not have the lock
			return
		}
	}
}

// read gives the next message, or as much of it as fits (MS-SMB2 section 3.3.5.12).
func (p *pipe) read(limit int) ([]byte, Status) {
	p.mu.Lock()
	defer p.unlock()
	if len(p.out) == 0 {
		return nil, statusPipeEmpty
	}
	msg := p.out[0]
	if len(msg) > limit {
		p.out[0] = msg[limit:]
		p.room.take(p.c, p.room.n-limit) // less always fits
		return msg[:limit], statusBufferOverflow
	}
	p.out = p.out[1:]
	p.room.take(p.c, p.room.n-len(msg))
	return msg, statusOK
}

const statusPipeEmpty = Status(0xc00000d9)

func (r *request) createPipe(rawName []byte) (*reply, error) {
	name, ok := message.Text(rawName)
	if !ok {
		return nil, statusObjectNameInvalid
	}
	name = strings.ToLower(strings.TrimPrefix(name, `\`))
	answers := r.service(name)
	if answers == nil {
		return nil, statusObjectNameNotFound
	}
	o, status := r.keep(&open{pipe: &pipe{name: name, c: r.c, rpc: dcerpc.NewConn(answers)}})
	if status != statusOK {
		return nil, status
	}
	out := openedAs(o, files.Opened, message.FileFacts{Attributes: message.AttrNormal})
	return answer(&out), nil
}
