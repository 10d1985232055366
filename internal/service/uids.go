package service

import (
	"context"
	"encoding/json"
	"fmt"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/store"
)

// uidFree refuses a uid that is somebody else's than user's; 0 is nobody yet.
func (s *Service) uidFree(uid uint32, user identity.ID) error {
	d := s.known().Directory
	if i := d.UserIndexByUID(uid); i != identity.None && d.Users()[i].ID != user {
		taken := d.Users()[i].Name
		return conflict("uid", "amber user show "+quote(taken), "uid %d is %s's: two users with one number are one user to every NFS client", uid, taken)
	}
	return nil
}

// uidGiven is uidFree for a number that somebody is given. One that was somebody else's within a year takes reuse: what those own somewhere would be the
// other's. It is retired no more then.
func (s *Service) uidGiven(d *site.Draft, uid uint32, user identity.ID, reuse bool) error {
	if err := s.uidFree(uid, user); err != nil {
		return err
	}
	r := d.Records()
	n, rests := r.Retired(uid, s.Now())
	switch {
	case !rests:
		return nil
	case !reuse:
		return &Error{Kind: Conflict, Field: "uid", Confirm: true, Message: fmt.Sprintf("uid %d was %s's until %s: what is theirs on disks and clients would be the other's. It can be given a year later, or if you say that it is meant",
			uid, n.Name, n.Since.Format("2 Jan 2006"))}
	}
	site.Delete[site.RetiredNumber](d, n.ID)
	return nil
}

// gidFree is the same for a gid.
func (s *Service) gidFree(gid uint32, group identity.ID) error {
	d := s.known().Directory
	if i := d.GroupIndexByGID(gid); i != identity.None && d.Groups()[i].ID != group {
		taken := d.Groups()[i].Name
		return conflict("gid", "amber group show "+quote(taken), "gid %d is that of %s", gid, taken)
	}
	return nil
}

// NumberNotes says what is to be known of a number that a user is given, and of what keeps the one that they had; nil for none.
func (s *Service) NumberNotes(user *identity.User, before *uint32) (notes []string) {
	switch user.UID {
	case 0:
		notes = append(notes, "uid 0 is root on every client: an export that does not squash it takes whoever is root there for "+user.Name)
	case site.Anonymous:
		notes = append(notes, fmt.Sprintf("uid %d is nobody's on every client: squashed and unknown users would be taken for %s", site.Anonymous, user.Name))
	}
	if before == nil || *before != user.UID {
		if kept := s.ledger.Use(limit.Counter{Of: limit.Owned, Number: user.UID}); kept.Files > 0 {
			of := ""
			if name := s.lastWith(user.UID, user.ID); name != "" {
				of = ", which was " + name + "'s,"
			}
			notes = append(notes, fmt.Sprintf("%d files belong to uid %d%s and are %s's from now on", kept.Files, user.UID, of, user.Name))
		}
	}
	if before == nil || *before == user.UID {
		return notes
	}
	if kept := s.ledger.Use(limit.Counter{Of: limit.Owned, Number: *before}); kept.Files > 0 {
		notes = append(notes, fmt.Sprintf("%d files still belong to uid %d, who is nobody in the records now; what is to be %s's is given by amber owner set PATH --owner %s",
			kept.Files, *before, user.Name, quote(user.Name)))
	}
	return notes
}

// lastWith is the name of the user who last had a number and is no more, or has another now; "" where nobody has had it.
func (s *Service) lastWith(uid uint32, but identity.ID) (name string) {
	_ = s.store.EachRow(context.Background(), store.Match{Only: "changes"}, func(row store.JournalRow) error {
		for _, c := range row.Changes {
			var was identity.User
			if c.Kind == "user" && c.ID != int64(but) && c.Before != nil && json.Unmarshal(c.Before, &was) == nil && was.UID == uid {
				name = was.Name
			}
		}
		return nil
	})
	return name
}
