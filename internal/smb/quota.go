package smb

import (
	"context"
	"slices"

	"amber.example/gatekeeper/internal/core/descriptor"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// Limits is what quotas over SMB need of the records: that administrators set limits.
type Limits interface {
	// SetQuota sets what a user may store in the folder of a share, in bytes; nil for no bound. An error wraps files.ErrDenied
	// where whoever asks may not.
	SetQuota(ctx context.Context, by identity.ID, share string, user identity.ID, soft, hard *int64) error
}

// quotaInfo answers FileQuotaInformation, MS-FSCC section 2.4.33, about the users that a request lists (MS-SMB2 section 2.2.37.1), or
// all of them: to others than administrators, about themselves.
func (r *request) quotaInfo(o *open, input []byte, size int) ([]byte, error) {
	l := r.c.srv.Limits
	if l == nil {
		return nil, statusNotSupported
	}
	var asked message.QuotaQuery
	if asked.Parse(input) != nil {
		return nil, statusInvalidParameter
	}
	quotas, err := r.c.srv.Files.Quotas(r.subject(), o.tree.share)
	if err != nil {
		return nil, err
	}
	var users []identity.ID
	everybody := len(asked.SIDs) == 0
	if !everybody {
		for _, sid := range asked.SIDs {
			user := r.userOf(sid)
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
		if asked.Restart {
			o.quotaAt = 0
		}
		users = slices.DeleteFunc(users, func(u identity.ID) bool { return u <= o.quotaAt })
		o.quotaMu.Unlock()
	}
	out, told := message.NewQuotas(), identity.ID(0)
	for _, user := range users {
		q := quotas[user]
		entry := quotaEntry(&q, r.sidOf(user))
		if len(out.Bytes())+out.QuotaSize(&entry) > size {
			break
		}
		out.AddQuota(&entry)
		if told = user; asked.Single {
			break
		}
	}
	if everybody {
		o.quotaMu.Lock()
		o.quotaAt = max(o.quotaAt, told)
		o.quotaMu.Unlock()
	}
	if len(out.Bytes()) == 0 {
		if len(users) > 0 {
			return nil, statusInfoLengthMismatch
		}
		return nil, statusNoMoreEntries
	}
	return out.Bytes(), nil
}

// sidOf packs the SID of a user.
func (r *request) sidOf(user identity.ID) []byte {
	b, err := r.c.srv.Names.SID(identity.UserPrincipal(user)).Append(nil)
	if err != nil {
		return nil
	}
	return b
}

// userOf is whom a packed SID means; 0 for nobody here.
func (r *request) userOf(packed []byte) identity.ID {
	sid, n, err := descriptor.ParseSID(packed)
	if err != nil || n != len(packed) {
		return 0
	}
	who, known := r.c.srv.Names.Who(sid)
	if !known || who.Kind != identity.KindUser {
		return 0
	}
	return who.ID
}

func quotaEntry(q *files.Quota, sid []byte) message.Quota {
	bound := func(n *int64) uint64 {
		if n == nil {
			return message.NoQuota
		}
		return uint64(*n)
	}
	return message.Quota{SID: sid, Used: uint64(max(q.Use.Bytes, 0)), Threshold: bound(q.SoftBytes), Limit: bound(q.HardBytes)}
}

// setQuotaInfo sets limits as MS-SMB2 section 3.3.5.21.4 has it.
func (r *request) setQuotaInfo(o *open, b []byte) error {
	l := r.c.srv.Limits
	if l == nil {
		return statusNotSupported
	}
	var wanted message.Quotas
	if wanted.Parse(b) != nil || len(wanted) == 0 {
		return statusInvalidParameter
	}
	for _, q := range wanted {
		user := r.userOf(q.SID)
		if user == 0 {
			return statusInvalidSID
		}
		if err := l.SetQuota(r.c.ctx, r.sess.user, o.tree.share, user, bound(q.Threshold), bound(q.Limit)); err != nil {
			return err
		}
	}
	return nil
}

func bound(n uint64) *int64 {
	if n > 1<<63-1 {
		return nil
	}
	return new(int64(n))
}
