package service

import (
	"context"
	"errors"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/files"
)

// SetQuota is smb.Limits: it sets the limit in bytes that a user has in the folder of a share, or removes it where it says nothing.
func (s *Service) SetQuota(ctx context.Context, by identity.ID, share string, user identity.ID, soft, hard *int64) error {
	p := s.Policy()
	of, sh := p.Directory.User(user), p.ShareNamed(share)
	if of == nil || sh == nil {
		return files.ErrGone
	}
	actor, err := s.administrator(by)
	if err != nil {
		return err
	}
	in := LimitInput{Kind: limit.OfUser, Name: of.Name, Folder: sh.Folder.Name, SoftBytes: noBound, HardBytes: noBound}
	if soft != nil && (hard == nil || *soft < *hard) {
		in.SoftBytes = itoa(*soft)
	}
	if hard != nil {
		in.HardBytes = itoa(*hard)
	}
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
