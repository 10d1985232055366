package service

import (
	"context"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/store"
)

// ShareInput is what a new share is made from. An empty Name takes the folder's.
type ShareInput struct {
	Folder, Name, Description string
	Hidden                    bool // not announced
	ReadOnly                  bool
	ListOnlyOpenable          bool
}

// checkShareName lets a name end in $, as names do that are kept from lists of shares.
func checkShareName(field, name string) error {
	if identity.Fold(name) == "ipc$" {
		return invalid(field, "the name IPC$ is taken by the protocol")
	}
	return checkPlaceName(field, strings.TrimSuffix(name, "$"))
}

// keptFromLists says whether clients do not show a share, by its name, wherever they list shares.
func keptFromLists(name string) bool { return strings.HasSuffix(name, "$") }

// CreateShare publishes a folder over SMB.
func (s *Service) CreateShare(ctx context.Context, by Actor, in ShareInput) (*site.PublishedShare, error) {
	f, err := s.Folder(in.Folder)
	if err != nil {
		return nil, err
	}
	if in.Name == "" {
		in.Name = f.Name
	}
	if err := checkShareName("name", in.Name); err != nil {
		return nil, err
	}
	in.Hidden = in.Hidden || keptFromLists(in.Name)
	err = s.change(ctx, by, "add share", in.Name, func(tx *store.Tx) error {
		if s.Policy().ShareNamed(in.Name) != nil {
			return conflict("name", "amber share show "+quote(in.Name), "there is a share %s already", in.Name)
		}
		return tx.Run(ctx, `INSERT INTO shares (name, folder_id, description, announced, read_only, list_only_openable) VALUES (?, ?, ?, ?, ?, ?)`,
			in.Name, f.ID, in.Description, !in.Hidden, in.ReadOnly, in.ListOnlyOpenable)
	})
	if err != nil {
		return nil, err
	}
	return s.Share(in.Name)
}

// ShareChange is what is to change of a share; nil leaves a field as it is.
type ShareChange struct {
	Name, Description                     *string
	Announced, ReadOnly, ListOnlyOpenable *bool
}

// UpdateShare changes a share and gives the new record.
func (s *Service) UpdateShare(ctx context.Context, by Actor, name string, in ShareChange) (*site.PublishedShare, error) {
	sh, err := s.Share(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change share", sh.Name, func(tx *store.Tx) error {
		if err := s.rename(ctx, tx, s.shareNames(), sh.ID, in.Name); err != nil {
			return err
		}
		if in.Description != nil {
			if err := tx.Run(ctx, `UPDATE shares SET description = ? WHERE id = ?`, *in.Description, sh.ID); err != nil {
				return err
			}
		}
		if name := nameAfter(sh.Name, in.Name); keptFromLists(name) {
			if in.Announced != nil && *in.Announced {
				return invalid("announced", "clients keep shares whose names end in $ to themselves: give %s another name first", name)
			}
			in.Announced = new(bool)
		}
		for column, value := range map[string]*bool{"announced": in.Announced, "read_only": in.ReadOnly, "list_only_openable": in.ListOnlyOpenable} {
			if value != nil {
				if err := tx.Run(ctx, `UPDATE shares SET `+column+` = ? WHERE id = ?`, *value, sh.ID); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Share(nameAfter(sh.Name, in.Name))
}

// RemoveShare ends the publication. The folder stays.
func (s *Service) RemoveShare(ctx context.Context, by Actor, name string) error {
	sh, err := s.Share(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove share", sh.Name, func(tx *store.Tx) error {
		return tx.Run(ctx, `DELETE FROM shares WHERE id = ?`, sh.ID)
	})
}

// AddShareEntry writes a share-level entry. The first one ends that a share
// without any lets everyone through.
func (s *Service) AddShareEntry(ctx context.Context, by Actor, name string, in EntryInput) (int64, error) {
	sh, err := s.Share(name)
	if err != nil {
		return 0, err
	}
	if len(in.Applies) > 0 {
		return 0, invalid("applies", "a share-level entry reaches the whole share")
	}
	if in.Through {
		return 0, invalid("through", "there is nothing to pass above a share")
	}
	var id int64
	err = s.change(ctx, by, "add share entry", sh.Name, func(tx *store.Tx) error {
		id, err = s.writeEntry(ctx, tx, in, nil, sh.ID)
		return err
	})
	return id, err
}

// UpdateShareEntry changes a share-level entry.
func (s *Service) UpdateShareEntry(ctx context.Context, by Actor, name string, id int64, in EntryChange) (*site.PublishedShare, error) {
	sh, err := s.Share(name)
	if err != nil {
		return nil, err
	}
	if len(in.Applies) > 0 {
		return nil, invalid("applies", "a share-level entry reaches the whole share")
	}
	err = s.change(ctx, by, "change share entry "+itoa(id), sh.Name, func(tx *store.Tx) error {
		entries := s.Policy().ShareNamed(sh.Name).Share.Entries
		i := slices.IndexFunc(entries, func(e acl.Entry) bool { return e.ID == id })
		if i < 0 {
			return notFound("id", "amber share entry list "+quote(sh.Name), "share %s has no entry %d", sh.Name, id)
		}
		return s.alterEntry(ctx, tx, entries[i], in)
	})
	if err != nil {
		return nil, err
	}
	return s.Share(sh.Name)
}

// RemoveShareEntry removes a share-level entry.
func (s *Service) RemoveShareEntry(ctx context.Context, by Actor, name string, id int64) error {
	sh, err := s.Share(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove share entry "+itoa(id), sh.Name, func(tx *store.Tx) error {
		if !slices.ContainsFunc(s.Policy().ShareNamed(sh.Name).Share.Entries, func(e acl.Entry) bool { return e.ID == id }) {
			return notFound("id", "amber share show "+quote(sh.Name), "share %s has no entry %d", sh.Name, id)
		}
		return tx.Run(ctx, `DELETE FROM entries WHERE id = ?`, id)
	})
}

// SetService switches a protocol on or off. Sessions that are open feel it at
// their next request.
func (s *Service) SetService(ctx context.Context, by Actor, protocol string, on bool) error {
	switch protocol {
	case "smb", "nfs":
	default:
		return invalid("protocol", "%q is not a protocol: smb or nfs", protocol)
	}
	action := "switch service off"
	if on {
		action = "switch service on"
	}
	return s.change(ctx, by, action, protocol, func(tx *store.Tx) error {
		return tx.Run(ctx, `UPDATE services SET is_on = ? WHERE protocol = ?`, on, protocol)
	})
}
