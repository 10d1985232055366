// Package backup writes what a service keeps into one file, and brings a state directory back from it. The file is a tar archive, compressed with
// gzip (RFC 1952), and sealed with age where that is asked for: it can be read with the tools of these formats as well.
package backup

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"filippo.io/age"

	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/store"
)

// Format is the number of the layout that is written here.
const Format = 1

const (
	product      = "Amber Gatekeeper"
	manifestName = "manifest.json"
	mostManifest = 1 << 20
)

// members are the files that a backup may hold. What is not among them is known again by the service itself: what was asked at the wire over
// time, and who locks the state directory.
var members = []string{store.FileName, store.EventsFileName, store.UsesFileName, secret.KeyFileName, certs.OwnFile, certs.OwnKeyFile}

// needed are those without which nothing can be brought back.
var needed = []string{store.FileName, secret.KeyFileName}

// Manifest says what a backup holds. It is the archive's first member.
type Manifest struct {
	Format  int       `json:"format"`
	Product string    `json:"product"`
	Version string    `json:"version"` // of the program that wrote it
	Schema  int64     `json:"schema"`  // of the records
	Made    time.Time `json:"made"`
	Host    string    `json:"host"`
	Rows    int64     `json:"journalRows"`
	Volumes []Volume  `json:"volumes"`
	Files   []File    `json:"files"`
}

// Volume is where a volume was.
type Volume struct {
	Name string `json:"name"`
	Path string `json:"path"`
	Mark string `json:"mark"` // that its directory carries
}

// File is one file of the backup.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`   // bytes
	SHA256 string `json:"sha256"` // hexadecimal
}

// Source is what is written: databases that can be copied while they are in use, and files beside them.
type Source interface {
	// CopyDatabases writes each database into a directory, as it is at one moment.
	CopyDatabases(ctx context.Context, dir string) error
	// StateDir is the state directory.
	StateDir() string
	// Contents says what the records are about, for the manifest.
	Contents(ctx context.Context) (rows int64, volumes []Volume, err error)
}

// Seal says for whom a backup is sealed; nothing for everybody.
type Seal struct {
	Passphrase string
	Recipients []string // age's public keys
}

// Sealed says whether it is.
func (s Seal) Sealed() bool { return s.Passphrase != "" || len(s.Recipients) > 0 }

// Extension is how a file of it ends.
func (s Seal) Extension() string {
	if s.Sealed() {
		return ".tar.gz.age"
	}
	return ".tar.gz"
}

// Check says what is wrong with it.
func (s Seal) Check() error {
	_, err := s.recipients()
	return err
}

func (s Seal) recipients() (out []age.Recipient, err error) {
	if s.Passphrase != "" {
		if len(s.Recipients) > 0 {
			return nil, errors.New("a backup is sealed with a passphrase or for public keys, not both")
		}
		if len(s.Passphrase) < 8 {
			return nil, errors.New("a passphrase has at least 8 characters")
		}
		one, err := age.NewScryptRecipient(s.Passphrase)
		if err != nil {
			return nil, errors.New("that passphrase cannot be used")
		}
		return []age.Recipient{one}, nil
	}
	for _, text := range s.Recipients {
		one, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no public key of age, which begin with age1", text)
		}
		out = append(out, one)
	}
	return out, nil
}

// Write writes a backup. What has been written is none where it fails. The copies of the databases are kept beside them meanwhile.
func Write(ctx context.Context, to io.Writer, from Source, seal Seal, version string) (*Manifest, error) {
	recipients, err := seal.recipients()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(from.StateDir(), tempPrefix)
	if err != nil {
		return nil, fmt.Errorf("what is to be copied cannot be put anywhere: %s", plain.Reason(err))
	}
	defer os.RemoveAll(dir)
	if err := from.CopyDatabases(ctx, dir); err != nil {
		return nil, err
	}
	m, paths, err := describe(ctx, from, dir, version)
	if err != nil {
		return nil, err
	}
	out := io.WriteCloser(nopCloser{to})
	if len(recipients) > 0 {
		if out, err = age.Encrypt(to, recipients...); err != nil {
			return nil, fmt.Errorf("the backup cannot be sealed: %s", plain.Reason(err))
		}
	}
	if err := archive(ctx, out, m, paths); err != nil {
		return nil, err
	}
	return m, out.Close()
}

const tempPrefix = "backup-being-made-"

// Sweep removes what a process that was ended while it made a backup left in the state directory.
func Sweep(state string) {
	left, _ := filepath.Glob(filepath.Join(state, tempPrefix+"*")) // the pattern is well formed
	for _, dir := range left {
		os.RemoveAll(dir)
	}
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

// describe hashes what is to be written. Keys and certificates are copied first, so that what is described is what is written.
func describe(ctx context.Context, from Source, dir, version string) (*Manifest, map[string]string, error) {
	host, _ := os.Hostname() // "" is as good
	m := &Manifest{Format: Format, Product: product, Version: version, Schema: store.Schema(), Made: time.Now().UTC().Truncate(time.Second), Host: host}
	var err error
	if m.Rows, m.Volumes, err = from.Contents(ctx); err != nil {
		return nil, nil, err
	}
	paths := make(map[string]string)
	for _, name := range members {
		path := filepath.Join(dir, name)
		if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
			raw, err := os.ReadFile(filepath.Join(from.StateDir(), name))
			if errors.Is(err, os.ErrNotExist) && !slices.Contains(needed, name) {
				continue
			}
			if err == nil {
				err = os.WriteFile(path, raw, 0o600)
			}
			if err != nil {
				return nil, nil, fmt.Errorf("%s cannot be copied: %s", name, plain.Reason(err))
			}
		}
		f, err := fileAt(path, name)
		if err != nil {
			return nil, nil, err
		}
		m.Files = append(m.Files, f)
		paths[name] = path
	}
	return m, paths, nil
}

func fileAt(path, name string) (File, error) {
	f, err := os.Open(path)
	if err != nil {
		return File{}, fmt.Errorf("%s cannot be copied: %s", name, plain.Reason(err))
	}
	defer f.Close()
	sum := sha256.New()
	n, err := io.Copy(sum, f)
	if err != nil {
		return File{}, fmt.Errorf("%s cannot be copied: %s", name, plain.Reason(err))
	}
	return File{name, n, hex.EncodeToString(sum.Sum(nil))}, nil
}

func archive(ctx context.Context, to io.Writer, m *Manifest, paths map[string]string) error {
	zip := gzip.NewWriter(to)
	t := tar.NewWriter(zip)
	raw, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	put := func(name string, size int64, from io.Reader) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: m.Made, Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := io.CopyN(t, from, size)
		return err
	}
	if err := put(manifestName, int64(len(raw)), bytes.NewReader(raw)); err != nil {
		return err
	}
	for _, f := range m.Files {
		in, err := os.Open(paths[f.Name])
		if err != nil {
			return err
		}
		err = put(f.Name, f.Size, in)
		in.Close()
		if err != nil {
			return err
		}
	}
	return errors.Join(t.Close(), zip.Close())
}

// Kept is a backup that is kept where they are written by themselves.
type Kept struct {
	Name string
	Made time.Time
	Size int64 // bytes
}
