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
	"amber.example/gatekeeper/internal/core/site"
)

type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// each calls scan for every row of a query.
func each(ctx context.Context, q querier, query string, scan func(*sql.Rows) error, args ...any) error {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Records reads everything that decides anything, in the order of the records'
// numbers.
func (tx *Tx) Records(ctx context.Context) (site.Records, error) {
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

func firstError(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (tx *Tx) readPeople(ctx context.Context, r *site.Records) error {
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

// Texts gives the texts that a query selects, by the number that it selects before each.
func (tx *Tx) Texts(ctx context.Context, query string) (map[int64]string, error) {
	out := make(map[int64]string)
	err := each(ctx, tx, query, func(rows *sql.Rows) error {
		var id int64
		var text string
		err := rows.Scan(&id, &text)
		out[id] = text
		return err
	})
	return out, err
}

// endDate reads a moment that may be never, the zero time.
func endDate(s sql.NullString) (time.Time, error) {
	if !s.Valid {
		return time.Time{}, nil
	}
	return time.Parse(time.RFC3339, s.String)
}

func (tx *Tx) readFolders(ctx context.Context, r *site.Records) error {
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

func (tx *Tx) readShares(ctx context.Context, r *site.Records) error {
	return each(ctx, tx, `SELECT id, name, folder_id, description, announced, read_only, list_only_openable FROM shares ORDER BY id`, func(rows *sql.Rows) error {
		var s site.Share
		err := rows.Scan(&s.ID, &s.Name, &s.FolderID, &s.Description, &s.Announced, &s.ReadOnly, &s.ListOnlyOpenable)
		r.Shares = append(r.Shares, s)
		return err
	})
}

func (tx *Tx) readEntries(ctx context.Context, r *site.Records) error {
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
func (tx *Tx) readAudit(ctx context.Context, r *site.Records) error {
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

// Place gives the number of the place at a path of a folder, making it and those
// on the way to it where they are missing.
func (tx *Tx) Place(ctx context.Context, folder int64, path string) (int64, error) {
	var id int64
	err := tx.QueryRowContext(ctx, `SELECT id FROM places WHERE folder_id = ? AND parent_id IS NULL`, folder).Scan(&id)
	if err == sql.ErrNoRows {
		id, err = tx.Insert(ctx, `INSERT INTO places (folder_id, name) VALUES (?, '')`, folder)
	}
	if err != nil || path == "" {
		return id, err
	}
	for name := range strings.SplitSeq(path, "/") {
		parent := id
		err = tx.QueryRowContext(ctx, `SELECT id FROM places WHERE parent_id = ? AND name = ?`, parent, name).Scan(&id)
		if err == sql.ErrNoRows {
			id, err = tx.Insert(ctx, `INSERT INTO places (folder_id, parent_id, name) VALUES (?, ?, ?)`, folder, parent, name)
		}
		if err != nil {
			return 0, err
		}
	}
	return id, nil
}

// PrunePlaces removes places of a folder that say nothing and lead nowhere.
func (tx *Tx) PrunePlaces(ctx context.Context, folder int64) error {
	for {
		res, err := tx.ExecContext(ctx, `DELETE FROM places WHERE folder_id = ? AND cut = 0 AND parent_id IS NOT NULL
			AND NOT EXISTS (SELECT 1 FROM entries e WHERE e.place_id = places.id)
			AND NOT EXISTS (SELECT 1 FROM places c WHERE c.parent_id = places.id)`, folder)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
	}
}

// MovePlace hangs the place at one path, with all below it, at another path of the
// same folder. A place already there is replaced.
func (tx *Tx) MovePlace(ctx context.Context, folder int64, from, to string) error {
	id, err := tx.Place(ctx, folder, from)
	if err != nil {
		return err
	}
	dir, name := "", to
	if i := strings.LastIndexByte(to, '/'); i >= 0 {
		dir, name = to[:i], to[i+1:]
	}
	parent, err := tx.Place(ctx, folder, dir)
	if err != nil {
		return err
	}
	if err := tx.Run(ctx, `DELETE FROM places WHERE parent_id = ? AND name = ? AND id <> ?`, parent, name, id); err != nil {
		return err
	}
	if err := tx.Run(ctx, `UPDATE places SET parent_id = ?, name = ? WHERE id = ?`, parent, name, id); err != nil {
		return err
	}
	return tx.PrunePlaces(ctx, folder)
}
