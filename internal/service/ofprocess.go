package service

import (
	"context"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/store"
)

// OfProcess does something about the process that serves, which no record says, and writes it down first. It takes an administrator.
func (s *Service) OfProcess(ctx context.Context, by Actor, action, about string, do func() error) error {
	return s.atOnce(ctx, by, action, about, "what is done about the running service is done at once: it is neither tried out nor past",
		by.Name+" may not do that: it takes an administrator", do)
}

// atOnce does what changes no record, and writes it down first; untried says why it is not tried out, and forbidden why somebody may not.
func (s *Service) atOnce(ctx context.Context, by Actor, action, about, untried, forbidden string, do func() error) error {
	if s.drafting != nil || !s.asOf.IsZero() {
		return conflict("", "", "%s", untried)
	}
	if by.Role != identity.Administrator {
		return &Error{Kind: Forbidden, Message: forbidden}
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: by.Name, Action: action, Subject: about})
	})
	if err != nil {
		return err
	}
	return do()
}
