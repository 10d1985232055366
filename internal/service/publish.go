package service

import (
	"context"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// ShareInput is what a new share is made from. An empty Name takes the folder's.
type ShareInput struct {
	Folder, Name, Description string
	Hidden                    bool // not announced
	ReadOnly                  bool
	ListOnlyOpenable          bool
	Encrypted                 bool              // nothing goes over the wire open
	Persistent                bool              // what is open outlasts the service
	ShowLinks                 bool              // symbolic links are told to clients, and not followed for them
	Guests                    bool              // who comes without an account may come in
	Hosts                     []site.HostTerm   // from which hosts; none: from every one
	Offline                   string            // "" is manual
	MostConnections           int               // 0: as many as come
	Labels                    map[string]string // by key; "" takes one away
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
	err = s.change(ctx, by, "add share", in.Name, func(d *site.Draft) error {
		if s.Policy().ShareNamed(in.Name) != nil {
			return conflict("name", "amber share show "+quote(in.Name), "there is a share %s already", in.Name)
		}
		sh := site.Share{Name: in.Name, FolderID: f.ID, Description: in.Description, Announced: !in.Hidden, ReadOnly: in.ReadOnly,
			ListOnlyOpenable: in.ListOnlyOpenable, Encrypted: in.Encrypted, Persistent: in.Persistent,
			ShowLinks: in.ShowLinks, Guests: in.Guests}
		if err := s.serveShare(&sh, &in.Hosts, &in.Offline, &in.MostConnections); err != nil {
			return err
		}
		if err := relabel(&sh.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, sh)
		return nil
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
	Encrypted, Persistent                 *bool
	ShowLinks, Guests                     *bool
	Hosts                                 *[]site.HostTerm
	Offline                               *string
	MostConnections                       *int
	Labels                                map[string]string // by key; "" takes one away
}

// UpdateShare changes a share and gives the new record.
func (s *Service) UpdateShare(ctx context.Context, by Actor, name string, in ShareChange) (*site.PublishedShare, error) {
	sh, err := s.Share(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change share", sh.Name, func(d *site.Draft) error {
		is, err := draftShare(d, sh)
		if err != nil {
			return err
		}
		if err := rename(s.shareNames(), sh.ID, &is.Name, in.Name); err != nil {
			return err
		}
		set(&is.Announced, in.Announced)
		if keptFromLists(is.Name) {
			if in.Announced != nil && *in.Announced {
				return invalid("announced", "clients keep shares whose names end in $ to themselves: give %s another name first", is.Name)
			}
			is.Announced = false
		}
		set(&is.Description, in.Description)
		set(&is.ReadOnly, in.ReadOnly)
		set(&is.ListOnlyOpenable, in.ListOnlyOpenable)
		set(&is.Encrypted, in.Encrypted)
		set(&is.Persistent, in.Persistent)
		set(&is.ShowLinks, in.ShowLinks)
		set(&is.Guests, in.Guests)
		if err := s.serveShare(&is, in.Hosts, in.Offline, in.MostConnections); err != nil {
			return err
		}
		if err := relabel(&is.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, is)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Share(nameAfter(sh.Name, in.Name))
}

// mostHostTerms of a share are looked through at each request.
const mostHostTerms = 200

// serveShare sets from where a share is used, what clients may keep of it, and how many may be connected; nil leaves each as it is.
func (s *Service) serveShare(sh *site.Share, hosts *[]site.HostTerm, offline *string, most *int) (err error) {
	if hosts != nil {
		if sh.Hosts, err = s.hostTerms(*hosts); err != nil {
			return err
		}
	}
	if offline != nil {
		switch kind := site.Offline(*offline); kind {
		case "", site.OfflineManual: // what goes without saying is not written down
			sh.Offline = ""
		case site.OfflineAuto, site.OfflineVDO, site.OfflineNone:
			sh.Offline = kind
		default:
			return invalid("offline", "%q is not one of manual, auto, vdo, none", *offline)
		}
	}
	if most != nil {
		if *most < 0 || *most > 1_000_000 {
			return invalid("mostConnections", "%d is no number of connections: 1 to 1000000, or 0 for as many as come", *most)
		}
		sh.MostConnections = *most
	}
	return nil
}

// hostTerms checks the hosts that a share is to be kept to, and gives them as they are kept: none where everyone is let in.
func (s *Service) hostTerms(terms []site.HostTerm) (out []site.HostTerm, err error) {
	if len(terms) > mostHostTerms {
		return nil, invalid("hosts", "%d are too many: make a host set, or write networks; a share takes %d", len(terms), mostHostTerms)
	}
	for _, t := range terms {
		if name, isSet := strings.CutPrefix(t.From, site.SetMark); isSet {
			h, err := s.HostSet(name)
			if err != nil {
				return nil, err
			}
			if t.ReadOnly {
				return nil, invalid("hosts", "the rules of host set %s say for themselves who may write: amber hosts rule set", h.Name)
			}
			t.From = site.SetMark + h.Name
		} else if t.From, _, err = cleanFrom("hosts", t.From); err != nil {
			return nil, err
		}
		if slices.ContainsFunc(out, func(o site.HostTerm) bool { return identity.Fold(o.From) == identity.Fold(t.From) }) {
			return nil, invalid("hosts", "%s stands there twice: the second would count for nobody", t.From)
		}
		out = append(out, t)
	}
	if len(out) == 1 && out[0] == (site.HostTerm{From: "*"}) {
		return nil, nil
	}
	return out, nil
}

// draftShare is a share as it is in a draft: under the writing lock, unlike what was found before.
func draftShare(d *site.Draft, sh *site.PublishedShare) (site.Share, error) {
	is, ok := site.Get[site.Share](d, sh.ID)
	if !ok {
		return is, notFound("share", "amber share list", "there is no share %q", sh.Name)
	}
	return is, nil
}

// RemoveShare ends the publication. The folder stays.
func (s *Service) RemoveShare(ctx context.Context, by Actor, name string) error {
	sh, err := s.Share(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove share", sh.Name, func(d *site.Draft) error {
		site.Delete[site.Share](d, sh.ID)
		return nil
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
	err = s.change(ctx, by, "add share entry", sh.Name, func(d *site.Draft) error {
		e, err := s.newEntry(in)
		if err != nil {
			return err
		}
		is, err := draftShare(d, sh)
		if err != nil {
			return err
		}
		if len(is.Entries) >= mostEntries {
			return errManyEntries
		}
		id = d.Number(site.EntryNumbers)
		e.ID = id
		is.Entries = append(slices.Clip(is.Entries), e)
		site.Put(d, is)
		return nil
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
	err = s.change(ctx, by, "change share entry "+itoa(id), sh.Name, func(d *site.Draft) error {
		is, err := draftShare(d, sh)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(is.Entries, func(e acl.Entry) bool { return e.ID == id })
		if i < 0 {
			return notFound("id", "amber share entry list "+quote(sh.Name), "share %s has no entry %d", sh.Name, id)
		}
		is.Entries = slices.Clone(is.Entries)
		if err := s.alterEntry(&is.Entries[i], in); err != nil {
			return err
		}
		site.Put(d, is)
		return nil
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
	return s.change(ctx, by, "remove share entry "+itoa(id), sh.Name, func(d *site.Draft) error {
		is, err := draftShare(d, sh)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(is.Entries, func(e acl.Entry) bool { return e.ID == id }) {
			return notFound("id", "amber share show "+quote(sh.Name), "share %s has no entry %d", sh.Name, id)
		}
		is.Entries = site.Without(is.Entries, func(e acl.Entry) bool { return e.ID == id })
		site.Put(d, is)
		return nil
	})
}

// ServiceChange is what changes of a protocol; what is nil stays as it is.
type ServiceChange struct {
	On        *bool
	Encrypted *bool // SMB: nothing goes over the wire open
	// Guest is the user, by name, as whom those come in over SMB who have no account; "" for nobody.
	Guest *string
}

// SetService switches a protocol on or off, or sets how it is served. Sessions that are open feel it at
// their next request.
func (s *Service) SetService(ctx context.Context, by Actor, protocol string, in ServiceChange) error {
	switch {
	case protocol != "smb" && protocol != "nfs":
		return invalid("protocol", "%q is not a protocol: smb or nfs", protocol)
	case in.Encrypted != nil && protocol != "smb":
		return invalid("encrypted", "NFS is not encrypted here: it is kept to networks that are trusted")
	case in.Guest != nil && protocol != "smb":
		return invalid("guest", "over NFS it is the client rules that say who comes in as whom")
	case in.On == nil && in.Encrypted == nil && in.Guest == nil:
		return invalid("on", "say what is to change: on, encrypted, or guest")
	}
	var guest identity.ID
	if in.Guest != nil {
		var err error
		if guest, err = s.userOrNone(*in.Guest); err != nil {
			return err
		}
	}
	action := "set service"
	if in.On != nil {
		action = "switch service off"
		if *in.On {
			action = "switch service on"
		}
	}
	return s.change(ctx, by, action, protocol, func(d *site.Draft) error {
		is := d.Records().Services
		if protocol == "smb" {
			set(&is.SMB, in.On)
		} else {
			set(&is.NFS, in.On)
		}
		set(&is.SMBEncrypted, in.Encrypted)
		if in.Guest != nil {
			is.SMBGuest = guest
		}
		site.Put(d, is)
		return nil
	})
}
