package smb

import (
	"context"
	"slices"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
)

// Limits is what quotas over SMB need of the records: how users are spelled as SIDs, and that administrators set limits.
type Limits interface {
	// SIDOf spells a user, MS-DTYP section 2.4.2.2.
	SIDOf(user identity.ID) []byte
	// UserOfSID is whom a SID means; 0 for nobody here.
	UserOfSID(sid []byte) identity.ID
	// SetQuota sets what a user may store in the folder of a share, in bytes; nil for no bound. An error wraps files.ErrDenied
	// where whoever asks may not.
	SetQuota(ctx context.Context, by identity.ID, share string, user identity.ID, soft, hard *int64) error
}

const (
	mostSIDs   = 1024 // asked about, or set, at once
	longestSID = 68
	noQuota    = ^uint64(0)
)

// quotaInfo answers FileQuotaInformation, MS-FSCC section 2.4.33, about the users that a request lists (MS-SMB2 section 2.2.37.1), or
// all of them: to others than administrators, about themselves.
func (r *request) quotaInfo(o *open, input []byte, size int) ([]byte, error) {
	l := r.c.srv.Limits
	if l == nil {
		return nil, statusNotSupported
	}
	if len(input) < 16 {
		return nil, statusInvalidParameter
	}
	single, restart := input[0] != 0, input[1] != 0
	listed, start := int(le.Uint32(input[4:])), int(le.Uint32(input[8:]))
	if listed < 0 || start < 0 || listed > len(input)-16 {
		return nil, statusInvalidParameter
	}
	quotas, err := r.c.srv.Files.Quotas(r.subject(), o.tree.share)
	if err != nil {
		return nil, err
	}
	var users []identity.ID
	if listed > 0 {
		sids, err := sidList(input[16:16+listed], 8)
		if err != nil {
			return nil, err
		}
		for _, sid := range sids {
			user := l.UserOfSID(sid)
			if _, told := quotas[user]; told {
				users = append(users, user)
			}
		}
	} else {
		for user := range quotas {
			users = append(users, user)
		}
		slices.Sort(users)
		o.quotaMu.Lock()
		if restart {
			o.quotaAt = 0
		}
		users = slices.DeleteFunc(users, func(u identity.ID) bool { return u <= o.quotaAt })
		o.quotaMu.Unlock()
	}
	var out []byte
	last, told := 0, identity.ID(0)
	for _, user := range users {
		q := quotas[user]
		entry := quotaEntry(&q, l.SIDOf(user))
		at := (len(out) + 7) &^ 7
		if at+len(entry) > size {
			break
		}
		if len(out) > 0 {
			le.PutUint32(out[last:], uint32(at-last))
			out = append(out, make([]byte, at-len(out))...)
		}
		last, told = at, user
		if out = append(out, entry...); single {
			break
		}
	}
	if listed == 0 {
		o.quotaMu.Lock()
		o.quotaAt = max(o.quotaAt, told)
		o.quotaMu.Unlock()
	}
	if len(out) == 0 {
		if len(users) > 0 {
			return nil, statusInfoLengthMismatch
		}
		return nil, statusNoMoreEntries
	}
	return out, nil
}

func quotaEntry(q *files.Quota, sid []byte) []byte {
	b := make([]byte, 40, 40+len(sid))
	le.PutUint32(b[4:], uint32(len(sid)))
	le.PutUint64(b[16:], uint64(max(q.Use.Bytes, 0)))
	for at, bound := range map[int]*int64{24: q.SoftBytes, 32: q.HardBytes} {
		if le.PutUint64(b[at:], noQuota); bound != nil {
			le.PutUint64(b[at:], uint64(*bound))
		}
	}
	return append(b, sid...)
}

// sidList reads a list in which each entry tells where the next is and how long its SID is, which begins at a place in it.
func sidList(b []byte, begins int) ([][]byte, error) {
	var out [][]byte
	for {
		if len(b) < begins || len(out) == mostSIDs {
			return nil, statusInvalidParameter
		}
		next, length := int(le.Uint32(b)), int(le.Uint32(b[4:]))
		if length < 8 || length > longestSID || length > len(b)-begins {
			return nil, statusInvalidSID
		}
		out = append(out, b[begins:begins+length])
		if next == 0 {
			return out, nil
		}
		if next < begins+length || next > len(b) {
			return nil, statusInvalidParameter
		}
		b = b[next:]
	}
}

// setQuotaInfo sets limits as MS-SMB2 section 3.3.5.21.4 has it.
func (r *request) setQuotaInfo(o *open, b []byte) error {
	l := r.c.srv.Limits
	if l == nil {
		return statusNotSupported
	}
	sids, err := sidList(b, 40)
	if err != nil {
		return err
	}
	for _, sid := range sids {
		user := l.UserOfSID(sid)
		if user == 0 {
			return statusInvalidSID
		}
		soft, hard := boundAt(b, 24), boundAt(b, 32)
		if err := l.SetQuota(r.c.ctx, r.sess.user, o.tree.share, user, soft, hard); err != nil {
			return err
		}
		b = b[min(int(le.Uint32(b)), len(b)):]
	}
	return nil
}

func boundAt(b []byte, at int) *int64 {
	n := le.Uint64(b[at:])
	if n > 1<<63-1 {
		return nil
	}
	bound := int64(n)
	return &bound
}
