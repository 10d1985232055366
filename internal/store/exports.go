package store

import (
	"context"
	"database/sql"
	"strings"

	"amber.example/gatekeeper/internal/core/site"
)

func (tx *Tx) readExports(ctx context.Context, r *site.Records) error {
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

// InsertClientRule adds a line at the end of an export's or a host set's list; the other is
// nil. uses is the host set that the line stands for, nil for none.
func (tx *Tx) InsertClientRule(ctx context.Context, export, set, uses any, c site.ClientRule) (int64, error) {
	var hosts any
	if uses == nil {
		hosts = c.From
	}
	flavors := make([]string, len(c.Security))
	for i, f := range c.Security {
		flavors[i] = string(f)
	}
	return tx.Insert(ctx, `INSERT INTO client_rules (export_id, set_id, position, hosts, uses_set, read_write, squash, anon_uid, anon_gid, security, privileged_port, unknown)
		SELECT ?1, ?2, coalesce(max(position), 0) + 1, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11 FROM client_rules WHERE export_id IS ?1 AND set_id IS ?2`,
		export, set, hosts, uses, c.Write, string(c.Squash), c.AnonUID, c.AnonGID, strings.Join(flavors, ","), c.PrivilegedPort, string(c.Unknown))
}

// OrderClientRules puts the lines of one list in this order.
func (tx *Tx) OrderClientRules(ctx context.Context, order []int64) error {
	for i, id := range order {
		if err := tx.Run(ctx, `UPDATE client_rules SET position = ? WHERE id = ?`, i+1, id); err != nil {
			return err
		}
	}
	return nil
}

// Remembered lists the NFS clients of a kind that held state when the service last ran.
func (s *Store) Remembered(ctx context.Context, kind string) ([][]byte, error) {
	var out [][]byte
	err := each(ctx, s.db, `SELECT owner FROM nfs_clients WHERE kind = ?`, func(rows *sql.Rows) error {
		var owner []byte
		err := rows.Scan(&owner)
		out = append(out, owner)
		return err
	}, kind)
	return out, err
}

// Remember writes down that an NFS client holds state.
func (s *Store) Remember(ctx context.Context, kind string, owner []byte) error {
	return s.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `INSERT OR IGNORE INTO nfs_clients (kind, owner) VALUES (?, ?)`, kind, owner)
	})
}

// Forget removes an NFS client that holds none any more.
func (s *Store) Forget(ctx context.Context, kind string, owner []byte) error {
	return s.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `DELETE FROM nfs_clients WHERE kind = ? AND owner = ?`, kind, owner)
	})
}
