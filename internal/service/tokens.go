package service

import (
	"context"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
)

// TokenInput is what a new token is made from.
type TokenInput struct {
	Name string
	Role string    // one of administrator, operator, auditor, user; "" for that of who makes it
	Ends time.Time // zero for never
	From []string  // addresses and networks from where it may be used; none for anywhere
}

// mostTokens is how many one user has.
const mostTokens = 50

// CreateToken makes a token with which a program acts on behalf of who makes it. It gives its text, which is kept nowhere.
func (s *Service) CreateToken(ctx context.Context, by Actor, in TokenInput) (token site.Token, text string, err error) {
	user, self, err := s.themselves(by.ID)
	if err != nil {
		return token, "", err
	}
	if by.Token != "" {
		return token, "", &Error{Kind: Forbidden, Message: "a token makes no others: sign in"}
	}
	if err := checkAccountName("name", in.Name); err != nil {
		return token, "", err
	}
	role := user.Role
	if in.Role != "" {
		if role, err = ParseRole("role", in.Role); err != nil {
			return token, "", err
		}
	}
	switch {
	case !role.Within(by.Role):
		return token, "", invalid("role", "%s is %s, and makes no token that may do more", by.Name, plain.WithArticle(by.Role.Name()))
	case !in.Ends.IsZero() && !in.Ends.After(s.Now()):
		return token, "", invalid("ends", "%s has passed already", site.Moment(in.Ends))
	}
	for _, from := range in.From {
		if _, err := site.ParseNetwork(from); err != nil {
			return token, "", invalid("from", "%q is no address and no network such as 192.0.2.0/24", from)
		}
	}
	write, kept := signin.NewToken()
	err = s.change(ctx, self, "add token", in.Name, func(d *site.Draft) error {
		count := 0
		for _, t := range d.Records().Tokens {
			if t.User != user.ID {
				continue
			}
			if count++; identity.Fold(t.Name) == identity.Fold(in.Name) {
				return conflict("name", "amber token list", "%s has a token %s already", user.Name, t.Name)
			}
		}
		if count >= mostTokens {
			return conflict("name", "amber token list", "%s has %d tokens already: remove some", user.Name, count)
		}
		token = site.Token{Name: in.Name, User: user.ID, Role: role, Made: instant(time.Now()), Ends: instant(in.Ends), From: in.From, Secret: d.Keep(kept)}
		token.ID = site.Put(d, token)
		return nil
	})
	return token, write(token.ID), err
}

// Tokens lists the tokens of a user, or of everybody where that is 0.
func (s *Service) Tokens(of identity.ID) (out []site.Token) {
	for _, t := range s.Policy().Tokens {
		if of == 0 || t.User == of {
			out = append(out, t)
		}
	}
	return out
}

// RemoveToken takes a token back: one's own, or as an administrator anybody's.
func (s *Service) RemoveToken(ctx context.Context, by Actor, id int64) error {
	token, there := s.Policy().Token(id)
	if !there || !administers(by) && token.User != by.ID {
		return notFound("id", "amber token list", "there is no token %d", id)
	}
	if token.User == by.ID {
		by.Role = entitled
	}
	return s.change(ctx, by, "remove token", token.Name, func(d *site.Draft) error {
		site.Delete[site.Token](d, id)
		return nil
	})
}

// EndSignIn ends a sign-in: one's own, or, for whoever may change the account, anybody's.
func (s *Service) EndSignIn(ctx context.Context, by Actor, id int64) error {
	all, err := s.Sessions(ctx, 0)
	if err != nil {
		return err
	}
	for _, is := range all {
		if is.ID != id {
			continue
		}
		switch {
		case is.Actor.ID == by.ID:
			return s.EndSession(ctx, id) // as signing out
		case by.Role == identity.Operator && is.Actor.Role == identity.NoRole:
			by.Role = entitled
		case !administers(by):
			return notFound("id", "amber sign-ins list", "there is no sign-in %d", id)
		}
		return s.change(ctx, by, "end sign-in", is.Actor.Name, func(*site.Draft) error { return nil }, func(tx *store.Tx) error {
			return tx.Run(ctx, `DELETE FROM sessions WHERE id = ?`, id)
		})
	}
	return notFound("id", "amber sign-ins list", "there is no sign-in %d", id)
}
