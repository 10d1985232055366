package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// Placing is where a volume is to be on this machine, and what is to be minded about it.
type Placing struct {
	Name, Was, Path string
	Mind            string // "" where its directory is there and is it
}

// Restored is what a backup was found to hold, and what became of it.
type Restored struct {
	Manifest *Manifest
	Placings []Placing
	Checked  bool // it was only looked at
}

// Restore brings a state directory back: one that is not there or empty. volumes says where volumes are on this machine, by name; those that are not
// named are where they were. With check nothing is kept. Where anything does not fit, the directory is as it was.
func Restore(ctx context.Context, r io.Reader, keys Keys, state string, volumes map[string]string, check bool) (*Restored, error) {
	state, err := filepath.Abs(state)
	if err != nil {
		return nil, err
	}
	if !check {
		if err := vacant(state); err != nil {
			return nil, err
		}
	}
	beside := filepath.Dir(state)
	if check {
		beside = os.TempDir()
	} else if err := os.MkdirAll(beside, 0o755); err != nil {
		return nil, fmt.Errorf("%s cannot be made: %s", beside, plain.Reason(err))
	}
	dir, err := os.MkdirTemp(beside, "."+filepath.Base(state)+"-being-restored-") // 0700
	if err != nil {
		return nil, fmt.Errorf("nothing can be written in %s: %s", beside, plain.Reason(err))
	}
	defer os.RemoveAll(dir)
	out := &Restored{Checked: check}
	if out.Manifest, err = Read(r, keys, dir); err != nil {
		return nil, err
	}
	if out.Placings, err = place(ctx, dir, state, out.Manifest, volumes); err != nil {
		return nil, err
	}
	if check {
		return out, nil
	}
	if err := os.Rename(dir, state); err != nil { // an empty directory gives way
		return nil, fmt.Errorf("%s cannot be put in place: %s", state, plain.Reason(err))
	}
	return out, nil
}

// vacant says why a directory cannot be a state directory to restore into.
func vacant(state string) error {
	names, err := os.ReadDir(state)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s cannot be looked into: %s", state, plain.Reason(err))
	}
	for _, n := range names {
		if n.Name() == store.FileName {
			return fmt.Errorf("%s holds records already: a backup is restored into an empty directory, and never over what is there", state)
		}
	}
	if len(names) > 0 {
		return fmt.Errorf("%s is not empty: a backup is restored into an empty directory", state)
	}
	return nil
}

// place checks the records and writes down where volumes are now.
func place(ctx context.Context, dir, state string, m *Manifest, volumes map[string]string) (out []Placing, err error) {
	st, err := store.Open(ctx, dir)
	if err != nil {
		return nil, errors.New("the records in it are damaged")
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	if err := st.Intact(ctx); err != nil {
		return nil, errors.New("the records in it are damaged")
	}
	if _, err := st.VerifyJournal(ctx); err != nil {
		return nil, fmt.Errorf("the journal in it is not what it was: %w", err)
	}
	err = st.Write(ctx, func(tx *store.Tx) error {
		records, numbers, err := tx.Records(ctx)
		if err != nil {
			return err
		}
		if out, err = placings(records.Volumes, state, volumes); err != nil {
			return err
		}
		d := site.NewDraft(records, numbers)
		var moved []string
		for i, v := range records.Volumes {
			if v.Path != out[i].Path {
				v.Path = out[i].Path
				site.Put(d, v)
				moved = append(moved, v.Name+" to "+v.Path)
			}
		}
		changes, err := d.Changes()
		if err != nil {
			return err
		}
		if _, err := tx.Save(ctx, d, changes); err != nil {
			return err
		}
		says := "from the backup of " + m.Made.UTC().Format("2006-01-02 15:04:05 MST")
		if len(moved) > 0 {
			says += "; " + strings.Join(moved, ", ")
		}
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: "service", Action: "restore", Subject: says, Changes: changes})
	})
	return out, err
}

// placings says where each volume is to be. What was named has to be there and carry the volume's mark; what was not named may be away.
func placings(all []site.Volume, state string, volumes map[string]string) (out []Placing, err error) {
	used := make(map[string]bool)
	for _, v := range all {
		p := Placing{Name: v.Name, Was: v.Path, Path: v.Path}
		to, named := "", false
		for name, path := range volumes {
			if strings.EqualFold(name, v.Name) {
				used[name], to, named = true, path, true
			}
		}
		if named {
			real, err := filepath.EvalSymlinks(to)
			if err == nil {
				real, err = filepath.Abs(real)
			}
			if err != nil {
				return nil, fmt.Errorf("volume %s cannot be at %s: %s", v.Name, to, plain.Reason(err))
			}
			p.Path = real
		}
		for _, other := range out {
			if files.Inside(p.Path, other.Path) || files.Inside(other.Path, p.Path) {
				return nil, fmt.Errorf("volume %s at %s overlaps volume %s at %s: --volume says where each is here", p.Name, p.Path, other.Name, other.Path)
			}
		}
		if files.Inside(state, p.Path) {
			return nil, fmt.Errorf("volume %s at %s holds the state directory %s, which must not be served", p.Name, p.Path, state)
		}
		mark, err := files.VolumeMark(p.Path)
		switch {
		case err != nil && named:
			return nil, fmt.Errorf("volume %s cannot be at %s: %s", v.Name, p.Path, plain.Reason(err))
		case err != nil:
			p.Mind = "it is not there: " + plain.Reason(err) + "; --volume " + v.Name + "=DIRECTORY says where it is here"
		case mark != v.Mark:
			p.Mind = "the directory does not carry the volume's mark: after the start, amber volume set " + v.Name + " --here takes it for it"
		}
		out = append(out, p)
	}
	for name := range volumes {
		if !used[name] {
			return nil, fmt.Errorf("there is no volume %s in the backup", name)
		}
	}
	return out, nil
}
