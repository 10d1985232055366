package service

import (
	"context"
	"encoding/json"
	"slices"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
	"amber.example/gatekeeper/internal/telling"
)

func (s *Service) hook(is func(*site.Hook) bool) *site.Hook {
	p := s.Policy()
	if i := slices.IndexFunc(p.Hooks, func(h site.Hook) bool { return is(&h) }); i >= 0 {
		return &p.Hooks[i]
	}
	return nil
}

// Hook finds a webhook by name, whatever its case.
func (s *Service) Hook(name string) (*site.Hook, error) {
	if h := s.hook(func(h *site.Hook) bool { return identity.Fold(h.Name) == identity.Fold(name) }); h != nil {
		return h, nil
	}
	return nil, notFound("name", "amber notice hook list", "there is no webhook %q", name)
}

// mostHooks is how many webhooks there may be.
const mostHooks = 16

// hookSecrets is what is known of a webhook and not shown.
type hookSecrets struct {
	URL    string `json:"url"`
	Secret string `json:"secret"`
}

// putHook writes a webhook down, and seals what is known of it.
func (s *Service) putHook(d *site.Draft, is site.Hook, h hookSecrets) error {
	u, err := notice.ParseURL(h.URL)
	if err != nil {
		return invalid("url", "%v", err)
	}
	raw, err := json.Marshal(h)
	if err != nil {
		return err
	}
	is.ID, is.Site = site.Put(d, is), u.Scheme+"://"+u.Host
	is.Secret = d.Keep(site.Secret{Sealed: s.keys.SealFor(telling.HookTarget+itoa(is.ID), string(raw))})
	site.Put(d, is)
	return nil
}

func (s *Service) hookSecrets(ctx context.Context, id int64) (h hookSecrets, err error) {
	is := s.hook(func(h *site.Hook) bool { return h.ID == id })
	if is == nil {
		return h, notFound("name", "amber notice hook list", "there is no webhook %d any more", id)
	}
	kept, err := s.store.Secret(ctx, is.Secret)
	if err != nil {
		return h, err
	}
	raw, err := s.keys.OpenFor(telling.HookTarget+itoa(id), kept.Sealed)
	if err != nil {
		return h, err
	}
	return h, json.Unmarshal([]byte(raw), &h)
}

// HookSecrets is what a webhook is called by, and what its messages are signed with.
func (s *Service) HookSecrets(ctx context.Context, id int64) (url, secret string, err error) {
	h, err := s.hookSecrets(ctx, id)
	return h.URL, h.Secret, err
}

// mayShowSecret refuses what would make a secret that nobody is shown.
func (s *Service) mayShowSecret() error {
	if s.drafting != nil && s.drafting.real {
		return conflict("", "", "a webhook's secret is shown once, to who asks for that alone: it has no place among other changes")
	}
	return nil
}

// CreateHook has a web address called with what is told from now on. It gives the secret that its messages are signed with, which
// is not shown again.
func (s *Service) CreateHook(ctx context.Context, by Actor, name, url string) (h *site.Hook, secret string, err error) {
	if err := checkAccountName("name", name); err != nil {
		return nil, "", err
	}
	if err := s.mayShowSecret(); err != nil {
		return nil, "", err
	}
	secret = notice.NewSecret()
	err = s.change(ctx, by, "add webhook", name, func(d *site.Draft) error {
		if _, err := s.Hook(name); err == nil {
			return conflict("name", "amber notice hook list", "there is a webhook %s already", name)
		}
		if len(s.Policy().Hooks) >= mostHooks {
			return conflict("", "amber notice hook list", "there are %d webhooks already", mostHooks)
		}
		return s.putHook(d, site.Hook{Name: name}, hookSecrets{url, secret})
	})
	if err != nil {
		return nil, "", err
	}
	h, err = s.Hook(name)
	return h, secret, err
}

// HookChange is what is to change of a webhook; nil leaves a field as it is.
type HookChange struct {
	URL    *string
	On     *bool
	Secret bool // it gets a new one
}

// UpdateHook changes a webhook. It gives the new secret, "" where it is the old one.
func (s *Service) UpdateHook(ctx context.Context, by Actor, name string, in HookChange) (h *site.Hook, secret string, err error) {
	if h, err = s.Hook(name); err != nil {
		return nil, "", err
	}
	known, err := s.hookSecrets(ctx, h.ID)
	if err != nil && (in.URL == nil || !in.Secret) { // what cannot be opened any more can be written anew
		return nil, "", err
	}
	if in.URL != nil {
		known.URL = *in.URL
	}
	if in.Secret {
		if err := s.mayShowSecret(); err != nil {
			return nil, "", err
		}
		secret = notice.NewSecret()
		known.Secret = secret
	}
	err = s.change(ctx, by, "change webhook", h.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.Hook](d, h.ID)
		if !ok {
			return notFound("name", "amber notice hook list", "there is no webhook %q", name)
		}
		if in.On != nil {
			is.Off = !*in.On
		}
		if in.URL == nil && !in.Secret {
			site.Put(d, is)
			return nil
		}
		return s.putHook(d, is, known)
	})
	if err != nil {
		return nil, "", err
	}
	h, err = s.Hook(h.Name)
	return h, secret, err
}

// RemoveHook has a web address called no more. What waits for it is forgotten.
func (s *Service) RemoveHook(ctx context.Context, by Actor, name string) error {
	h, err := s.Hook(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove webhook", h.Name, func(d *site.Draft) error {
		site.Delete[site.Hook](d, h.ID)
		return nil
	})
}
