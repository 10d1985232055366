package files

import (
	"context"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
)

// Security is who may do what with what is open, and whose it is.
type Security struct {
	Dir      bool
	UID, GID uint32 // of whom it is, as numbers of the records

	// Where entries decide: all that bears on it, what is written on it itself, and whether it inherits nothing.
	Borne   []acl.Borne
	Written []acl.Entry
	Cut     bool

	// Where modes decide: by what, and what is made in it starts with.
	Unix          bool
	Access, Below posix.ACL
}

// Security tells it, to whom it may be told.
func (h *Handle) Security() (Security, error) {
	if err := h.check(acl.ReadACL); err != nil {
		return Security{}, err
	}
	return h.security()
}

func (h *Handle) security() (Security, error) {
	v, err := h.ns.view(h.sub, h.share)
	if err != nil {
		return Security{}, err
	}
	s := Security{Dir: !h.file, Unix: v.folder.Unix()}
	err = h.use(func(fd int) error {
		var st unix.Statx_t
		if err := statx(fd, &st); err != nil {
			return err
		}
		is := v.unixFacts().read(fd, &st)
		s.UID, s.GID = is.UID, is.GID
		if s.Unix {
			if s.Access, s.Below = is.ACL, is.Default; s.Access == nil {
				s.Access = posix.Of(is.Mode)
			}
		}
		return nil
	})
	if err != nil || s.Unix {
		return s, err
	}
	path := plain.Spell(h.Path())
	s.Borne = v.folder.Tree.Bearing(path, h.file)
	if r := v.folder.Tree.Rule(path); r != nil {
		s.Written, s.Cut = r.Entries, r.Cut
	}
	return s, nil
}

// Secured is how what is open is to be: a nil owner, group or Rule leaves it.
type Secured struct {
	UID, GID *uint32
	Rule     func(is Security) (cut bool, entries []acl.Entry, err error)
}

// SetSecurity changes it where whoever has it open may. All is asked for before anything is done. Where modes decide, only the owner and the group can be
// set, as chown would.
func (h *Handle) SetSecurity(ctx context.Context, to Secured) error {
	return h.secure(ctx, to, h.check)
}

// SecureMade is SetSecurity for what has just been made through the handle: who makes something may say with it who may do what, where they might
// afterwards, whatever they have it open for. It is for whoever made it to take it away again where that is refused.
func (h *Handle) SecureMade(ctx context.Context, to Secured) error {
	return h.secure(ctx, to, func(need acl.Mask) error {
		if need&^h.Maximum() != 0 {
			return ErrDenied
		}
		return nil
	})
}

// Unmake takes away what was made through the handle when that is closed.
func (h *Handle) Unmake() {
	h.ns.mu.Lock()
	defer h.ns.mu.Unlock()
	h.of.deletePending = true
}

func (h *Handle) secure(ctx context.Context, to Secured, may func(acl.Mask) error) error {
	is, err := h.security()
	if err != nil {
		return err
	}
	if to.UID != nil && *to.UID == is.UID {
		to.UID = nil
	}
	if to.GID != nil && *to.GID == is.GID {
		to.GID = nil
	}
	gives := to.UID != nil || to.GID != nil
	var need acl.Mask
	if gives {
		need |= acl.WriteOwner
	}
	if to.Rule != nil {
		need |= acl.WriteACL
	}
	if need == 0 {
		return nil
	}
	if err := may(need); err != nil {
		return err
	}
	v, err := h.ns.view(h.sub, h.share)
	if err != nil {
		return err
	}
	var rule acl.Rule
	if to.Rule != nil {
		if is.Unix || h.ns.rules == nil {
			return ErrNotSupported
		}
		rule.Path = plain.Spell(h.Path())
		if rule.Cut, rule.Entries, err = to.Rule(is); err != nil {
			return err
		}
		rule.Cut = rule.Cut && rule.Path != ""
	}
	if gives {
		if err := h.give(v, to.UID, to.GID); err != nil {
			return err
		}
	}
	if to.Rule != nil {
		return h.ns.rules.WriteRule(ctx, h.folderID, h.sub.User, rule)
	}
	return nil
}

// give changes whose it is.
func (h *Handle) give(v view, uid, gid *uint32) error {
	who, f := v.credential(), v.unixFacts()
	err := h.use(func(fd int) error {
		var st unix.Statx_t
		if err := statx(fd, &st); err != nil {
			return err
		}
		was := f.read(fd, &st)
		if f.unix && !posix.MayGive(&who, &was, orLeft(uid), orLeft(gid)) {
			return ErrOwner
		}
		is := posix.Given(&who, was, orLeft(uid), orLeft(gid))
		h.folder.epoch.Add(1) // before and after: see altering
		defer h.folder.epoch.Add(1)
		return v.alter().own(fd, h.Path(), h.namesNow, f.becomes(fd, &st, is.UID, is.GID), func() error { return f.write(fd, &st, was, is) })
	})
	if err != nil {
		return err
	}
	h.ns.notify.tell(h.folderID, Event{Path: h.Path(), Kind: EventModified, Dir: !h.file, by: h.parentKey})
	return nil
}
