package service

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/files"
)

// SIDOf is smb.Limits: the SID of a user as MS-DTYP section 2.4.2.2 packs it.
func (s *Service) SIDOf(user identity.ID) []byte {
	text, err := bySID{s}.Spell(identity.UserPrincipal(user))
	if err != nil {
		return nil
	}
	var subs []uint32
	for part := range strings.SplitSeq(strings.TrimPrefix(text, "S-1-5-"), "-") {
		var n uint32
		if _, err := fmt.Sscan(part, &n); err != nil {
			return nil
		}
		subs = append(subs, n)
	}
	b := []byte{1, byte(len(subs)), 0, 0, 0, 0, 0, 5}
	for _, n := range subs {
		b = binary.LittleEndian.AppendUint32(b, n)
	}
	return b
}

// UserOfSID is smb.Limits: whom a packed SID means; 0 for nobody here.
func (s *Service) UserOfSID(sid []byte) identity.ID {
	if len(sid) < 8 || sid[0] != 1 || len(sid) != 8+4*int(sid[1]) {
		return 0
	}
	text := fmt.Sprintf("S-1-%d", binary.BigEndian.Uint64(append([]byte{0, 0}, sid[2:8]...)))
	for at := 8; at < len(sid); at += 4 {
		text += fmt.Sprintf("-%d", binary.LittleEndian.Uint32(sid[at:]))
	}
	who, err := bySID{s}.Read(text, false)
	if err != nil || who.Kind != identity.KindUser {
		return 0
	}
	return who.ID
}

// SetQuota is smb.Limits: it sets the limit in bytes that a user has in the folder of a share, or removes it where it says nothing.
func (s *Service) SetQuota(ctx context.Context, by identity.ID, share string, user identity.ID, soft, hard *int64) error {
	p := s.Policy()
	who, of, sh := p.Directory.User(by), p.Directory.User(user), p.ShareNamed(share)
	if who == nil || of == nil || sh == nil {
		return files.ErrGone
	}
	if who.Role != identity.Administrator {
		return files.ErrDenied
	}
	actor := Actor{ID: who.ID, Name: who.Name, Role: who.Role}
	in := LimitInput{Kind: limit.OfUser, Name: of.Name, Folder: sh.Folder.Name, SoftBytes: noBound, HardBytes: noBound}
	if soft != nil && (hard == nil || *soft < *hard) {
		in.SoftBytes = itoa(*soft)
	}
	if hard != nil {
		in.HardBytes = itoa(*hard)
	}
	var err error
	if in.SoftBytes == noBound && in.HardBytes == noBound {
		err = s.RemoveLimit(ctx, actor, in)
	} else {
		_, err = s.SetLimit(ctx, actor, in)
	}
	var refused *Error
	if errors.As(err, &refused) {
		switch refused.Kind {
		case NotFound:
			return nil
		case Invalid:
			return errors.Join(files.ErrInvalid, err)
		}
	}
	return err
}
