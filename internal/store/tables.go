package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

// tables reads the records out of the tables that there were for each kind, for the migration that put all of them into one. It is not changed any
// more.
type tables struct{ *sql.Tx }

func firstError(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// endDate reads a moment that may be never, the zero time.
func endDate(s sql.NullString) (time.Time, error) {
	if !s.Valid {
		return time.Time{}, nil
	}
	return time.Parse(time.RFC3339, s.String)
}

// Records reads everything that decides anything, in the order of the records'
// numbers.
func (tx tables) Records(ctx context.Context) (site.Records, error) {
	var r site.Records
	err := firstError(
		func() error { return tx.readPeople(ctx, &r) },
		func() error { return tx.readFolders(ctx, &r) },
		func() error { return tx.readShares(ctx, &r) },
		func() error { return tx.readExports(ctx, &r) },
		func() error { return tx.readEntries(ctx, &r) },
		func() error { return tx.readAudit(ctx, &r) },
		func() error { return tx.readLimits(ctx, &r) },
		func() error { return tx.readNotices(ctx, &r) },
		func() error {
			return each(ctx, tx, `SELECT protocol, is_on FROM services`, func(rows *sql.Rows) error {
				var name string
				var on bool
				err := rows.Scan(&name, &on)
				if name == "smb" {
					r.Services.SMB = on
				} else {
					r.Services.NFS = on
				}
				return err
			})
		},
	)
	if err != nil {
		return site.Records{}, fmt.Errorf("read records: %w", err)
	}
	return r, nil
}

func (tx tables) readPeople(ctx context.Context, r *site.Records) error {
	err := each(ctx, tx, `SELECT id, name, full_name, uid, primary_group, role, service, disabled, expires, smb, nfs, mail FROM users ORDER BY id`, func(rows *sql.Rows) error {
		var u identity.User
		var primary sql.NullInt64
		var expires sql.NullString
		if err := rows.Scan(&u.ID, &u.Name, &u.FullName, &u.UID, &primary, &u.Role, &u.Service, &u.Disabled, &expires, &u.SMB, &u.NFS, &u.Mail); err != nil {
			return err
		}
		u.Primary = identity.ID(primary.Int64)
		var err error
		if u.Expires, err = endDate(expires); err != nil {
			return fmt.Errorf("end date of %s: %w", u.Name, err)
		}
		r.Users = append(r.Users, u)
		return nil
	})
	if err != nil {
		return err
	}
	at := make(map[identity.ID]int)
	err = each(ctx, tx, `SELECT id, name, gid, description FROM groups ORDER BY id`, func(rows *sql.Rows) error {
		var g identity.Group
		err := rows.Scan(&g.ID, &g.Name, &g.GID, &g.Description)
		at[g.ID] = len(r.Groups)
		r.Groups = append(r.Groups, g)
		return err
	})
	if err != nil {
		return err
	}
	return each(ctx, tx, `SELECT group_id, user_id, member_group FROM members ORDER BY rowid`, func(rows *sql.Rows) error {
		var group identity.ID
		var user, inner sql.NullInt64
		if err := rows.Scan(&group, &user, &inner); err != nil {
			return err
		}
		who := identity.UserPrincipal(identity.ID(user.Int64))
		if inner.Valid {
			who = identity.GroupPrincipal(identity.ID(inner.Int64))
		}
		g := &r.Groups[at[group]]
		g.Members = append(g.Members, who)
		return nil
	})
}

func (tx tables) readFolders(ctx context.Context, r *site.Records) error {
	err := each(ctx, tx, `SELECT id, name, path, counting, mark FROM volumes ORDER BY id`, func(rows *sql.Rows) error {
		var v site.Volume
		err := rows.Scan(&v.ID, &v.Name, &v.Path, &v.Counting, &v.Mark)
		r.Volumes = append(r.Volumes, v)
		return err
	})
	if err != nil {
		return err
	}
	return each(ctx, tx, `SELECT id, name, volume_id, path, description, owner_id, group_id, permissions, ownership, log_access FROM folders ORDER BY id`, func(rows *sql.Rows) error {
		var f site.Folder
		var owner, group sql.NullInt64
		err := rows.Scan(&f.ID, &f.Name, &f.VolumeID, &f.Path, &f.Description, &owner, &group, &f.Permissions, &f.Ownership, &f.LogAccess)
		f.Owner, f.Group = identity.ID(owner.Int64), identity.ID(group.Int64)
		r.Folders = append(r.Folders, f)
		return err
	})
}

func (tx tables) readShares(ctx context.Context, r *site.Records) error {
	return each(ctx, tx, `SELECT id, name, folder_id, description, announced, read_only, list_only_openable FROM shares ORDER BY id`, func(rows *sql.Rows) error {
		var s site.Share
		err := rows.Scan(&s.ID, &s.Name, &s.FolderID, &s.Description, &s.Announced, &s.ReadOnly, &s.ListOnlyOpenable)
		r.Shares = append(r.Shares, s)
		return err
	})
}

func (tx tables) readEntries(ctx context.Context, r *site.Records) error {
	ofPlace, ofShare := make(map[int64][]acl.Entry), make(map[int64][]acl.Entry)
	err := each(ctx, tx, `SELECT id, place_id, share_id, deny, special, user_id, group_id, level, mask, applies, expires, note FROM entries ORDER BY id`, func(rows *sql.Rows) error {
		var e acl.Entry
		var place, share, special, user, group sql.NullInt64
		var expires sql.NullString
		err := rows.Scan(&e.ID, &place, &share, &e.Deny, &special, &user, &group, &e.Level, &e.Mask, &e.Applies, &expires, &e.Note)
		if err != nil {
			return err
		}
		if e.Expires, err = endDate(expires); err != nil {
			return fmt.Errorf("end date of entry %d: %w", e.ID, err)
		}
		switch {
		case user.Valid:
			e.Who = identity.UserPrincipal(identity.ID(user.Int64))
		case group.Valid:
			e.Who = identity.GroupPrincipal(identity.ID(group.Int64))
		default:
			e.Who = identity.Principal{Kind: identity.Kind(special.Int64)}
		}
		if place.Valid {
			ofPlace[place.Int64] = append(ofPlace[place.Int64], e)
		} else {
			ofShare[share.Int64] = append(ofShare[share.Int64], e)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i := range r.Shares {
		r.Shares[i].Entries = ofShare[r.Shares[i].ID]
	}
	at := make(map[int64]int)
	for i, f := range r.Folders {
		at[f.ID] = i
	}
	// A place's parent is not always made before it: renames hang rows elsewhere.
	err = each(ctx, tx, `WITH RECURSIVE down (id, folder_id, path, cut) AS (
			SELECT id, folder_id, '', cut FROM places WHERE parent_id IS NULL
			UNION ALL
			SELECT p.id, p.folder_id, CASE d.path WHEN '' THEN p.name ELSE d.path || '/' || p.name END, p.cut
			FROM places p JOIN down d ON p.parent_id = d.id)
		SELECT id, folder_id, path, cut FROM down`, func(rows *sql.Rows) error {
		var rule acl.Rule
		var folder int64
		if err := rows.Scan(&rule.ID, &folder, &rule.Path, &rule.Cut); err != nil {
			return err
		}
		if rule.Entries = ofPlace[rule.ID]; rule.Cut || len(rule.Entries) > 0 {
			f := &r.Folders[at[folder]]
			f.Rules = append(f.Rules, rule)
		}
		return nil
	})
	for i := range r.Folders {
		slices.SortFunc(r.Folders[i].Rules, func(a, b acl.Rule) int { return strings.Compare(a.Path, b.Path) })
	}
	return err
}

// readAudit reads what the audit is told besides: findings accepted, other machines' numbers.
func (tx tables) readAudit(ctx context.Context, r *site.Records) error {
	err := each(ctx, tx, `SELECT id, finding, reason, until, accepted_by FROM acceptances ORDER BY id`, func(rows *sql.Rows) error {
		var a site.Acceptance
		var until string
		err := rows.Scan(&a.ID, &a.Finding, &a.Reason, &until, &a.By)
		if err == nil {
			a.Until, err = time.Parse(time.RFC3339, until)
		}
		r.Acceptances = append(r.Acceptances, a)
		return err
	})
	if err != nil {
		return err
	}
	err = each(ctx, tx, `SELECT id, host, numbers FROM id_lists ORDER BY id`, func(rows *sql.Rows) error {
		var l site.IDList
		var numbers string
		if err := rows.Scan(&l.ID, &l.Host, &numbers); err != nil {
			return err
		}
		err := json.Unmarshal([]byte(numbers), &l.Numbers)
		r.IDLists = append(r.IDLists, l)
		return err
	})
	if err != nil {
		return err
	}
	return each(ctx, tx, `SELECT id, record FROM reviews ORDER BY id`, func(rows *sql.Rows) error {
		var v site.Review
		var id int64
		var record string
		if err := rows.Scan(&id, &record); err != nil {
			return err
		}
		err := json.Unmarshal([]byte(record), &v)
		v.ID = id
		r.Reviews = append(r.Reviews, v)
		return err
	})
}

func (tx tables) readExports(ctx context.Context, r *site.Records) error {
	sets, exports := make(map[int64]int), make(map[int64]int)
	err := each(ctx, tx, `SELECT id, name, description FROM host_sets ORDER BY id`, func(rows *sql.Rows) error {
		var h site.HostSet
		err := rows.Scan(&h.ID, &h.Name, &h.Description)
		sets[h.ID] = len(r.HostSets)
		r.HostSets = append(r.HostSets, h)
		return err
	})
	if err != nil {
		return err
	}
	err = each(ctx, tx, `SELECT id, path, folder_id, below, description, sync, client_groups FROM exports ORDER BY id`, func(rows *sql.Rows) error {
		var e site.Export
		err := rows.Scan(&e.ID, &e.Path, &e.FolderID, &e.Below, &e.Description, &e.Sync, &e.ClientGroups)
		exports[e.ID] = len(r.Exports)
		r.Exports = append(r.Exports, e)
		return err
	})
	if err != nil {
		return err
	}
	return each(ctx, tx, `SELECT id, export_id, set_id, hosts, uses_set, read_write, squash, anon_uid, anon_gid, security, privileged_port, unknown
		FROM client_rules ORDER BY position, id`, func(rows *sql.Rows) error {
		var c site.ClientRule
		var export, set, uses sql.NullInt64
		var hosts sql.NullString
		var security string
		if err := rows.Scan(&c.ID, &export, &set, &hosts, &uses, &c.Write, &c.Squash, &c.AnonUID, &c.AnonGID, &security, &c.PrivilegedPort, &c.Unknown); err != nil {
			return err
		}
		c.From = hosts.String
		if uses.Valid { // and nothing else counts
			c = site.ClientRule{ID: c.ID, From: site.SetMark + r.HostSets[sets[uses.Int64]].Name}
		} else {
			for f := range strings.SplitSeq(security, ",") {
				c.Security = append(c.Security, site.Flavor(f))
			}
		}
		if export.Valid {
			e := &r.Exports[exports[export.Int64]]
			e.Rules = append(e.Rules, c)
		} else {
			h := &r.HostSets[sets[set.Int64]]
			h.Rules = append(h.Rules, c)
		}
		return nil
	})
}

func (tx tables) readLimits(ctx context.Context, r *site.Records) error {
	return each(ctx, tx, `SELECT id, kind, user_id, group_id, volume_id, folder_id, path, soft_bytes, hard_bytes, soft_files, hard_files, grace_seconds FROM limits ORDER BY id`, func(rows *sql.Rows) error {
		var l limit.Limit
		var user, group, volume, folder sql.NullInt64
		err := rows.Scan(&l.ID, &l.Kind, &user, &group, &volume, &folder, &l.Path, &l.SoftBytes, &l.HardBytes, &l.SoftFiles, &l.HardFiles, &l.GraceSeconds)
		l.User, l.Group, l.Volume, l.Folder = identity.ID(user.Int64), identity.ID(group.Int64), volume.Int64, folder.Int64
		r.Limits = append(r.Limits, l)
		return err
	})
}

func (tx tables) readNotices(ctx context.Context, r *site.Records) error {
	err := each(ctx, tx, `SELECT record FROM notices`, func(rows *sql.Rows) error {
		var raw string
		if err := rows.Scan(&raw); err != nil {
			return err
		}
		return json.Unmarshal([]byte(raw), &r.Notices)
	})
	if err != nil {
		return fmt.Errorf("read notices: %w", err)
	}
	return each(ctx, tx, `SELECT id, name, site, is_off FROM hooks ORDER BY id`, func(rows *sql.Rows) error {
		var h site.Hook
		err := rows.Scan(&h.ID, &h.Name, &h.Site, &h.Off)
		r.Hooks = append(r.Hooks, h)
		return err
	})
}
