package files

import (
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// verdicts remembers for a moment what guests of exports may do with objects, so that who asks again and again about one has not all directories above it
// looked at each time. It holds for the same policy, as long as the object itself has not changed, nor anything by this service that a verdict rests on. What
// the host itself changes of a directory above is noticed verdictFor later.
type verdicts struct {
	mu     sync.Mutex
	policy *site.Policy // by which they are
	of     map[verdictKey]*heldVerdict
}

type verdictKey struct {
	arrival *access.Arrival
	folder  int64
	id      fileID
	path    string
	at      access.Stage
}

type heldVerdict struct {
	granted acl.Mask
	ends    time.Time           // when it would be another; zero for never
	changed unix.StatxTimestamp // of the object
	epoch   int64               // of the folder
	until   time.Time
}

const mostVerdicts = 1 << 14

// get gives what is remembered; false where it is to be decided anew.
func (m *verdicts) get(k verdictKey, o *Object, epoch int64) (access.Verdict, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.policy != o.w.v.policy {
		return access.Verdict{}, false
	}
	h := m.of[k]
	if h == nil || h.epoch != epoch || h.changed != o.st.Ctime || !o.w.v.now.Before(h.until) {
		return access.Verdict{}, false
	}
	return access.Verdict{Granted: h.granted, ValidUntil: h.ends}, true
}

// put remembers a verdict that was taken since the folder's epoch was read.
func (m *verdicts) put(k verdictKey, o *Object, epoch int64, v access.Verdict) {
	h := &heldVerdict{v.Granted, v.ValidUntil, o.st.Ctime, epoch, o.w.v.now.Add(verdictFor)}
	if !v.ValidUntil.IsZero() && v.ValidUntil.Before(h.until) {
		h.until = v.ValidUntil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.policy != o.w.v.policy || m.of == nil { // nothing of an older one is kept alive
		m.policy, m.of = o.w.v.policy, make(map[verdictKey]*heldVerdict)
	}
	for old := range m.of { // any will do: it is decided again
		if len(m.of) < mostVerdicts {
			break
		}
		delete(m.of, old)
	}
	m.of[k] = h
}
