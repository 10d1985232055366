package service

import (
	"context"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/store"
)

// MayTry says why somebody may not have the service go in as another, and notes in the journal that they have it do so. It is written down before anything is done.
func (s *Service) MayTry(ctx context.Context, by Actor, user, path string) error {
	switch {
	case s.drafting != nil || !s.asOf.IsZero():
		return conflict("", "", "the wire enforces what is in force: what is only tried out, or has passed, cannot be gone by")
	case by.Role != identity.Administrator:
		return &Error{Kind: Forbidden, Message: by.Name + " may not go in as somebody else: that takes an administrator"}
	}
	if err := s.mayChange(by, "try"); err != nil {
		return err
	}
	if _, err := s.User(user); err != nil {
		return err
	}
	if _, _, err := s.Locate(path); err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: by.Name, Action: "try as " + user, Subject: path})
	})
}
