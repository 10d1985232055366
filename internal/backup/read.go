package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/store"
)

// Keys open a sealed backup.
type Keys struct {
	// Passphrase is asked for where the backup is sealed with one; nil where nobody can be asked.
	Passphrase func() (string, error)
	Identities []age.Identity
}

// ReadIdentities reads a file of age's secret keys.
func ReadIdentities(name string) ([]age.Identity, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %s", name, plain.Reason(err))
	}
	defer f.Close()
	ids, err := age.ParseIdentities(io.LimitReader(f, mostManifest))
	if err != nil {
		return nil, fmt.Errorf("%s holds no secret keys of age, which begin with AGE-SECRET-KEY-1", name)
	}
	return ids, nil
}

const sealedHeader = "age-encryption.org/v1"

var (
	errCutOff = errors.New("it is cut off, or damaged: what is in it does not come to its end")
	errNone   = errors.New("it is no backup of Amber Gatekeeper")
)

// opened gives what is in a sealed backup, or in one that is not.
func opened(r io.Reader, keys Keys) (io.Reader, error) {
	in := bufio.NewReaderSize(r, 64<<10)
	first, _ := in.Peek(256) // a shorter one is told from what there is
	if !bytes.HasPrefix(first, []byte(sealedHeader)) {
		if len(first) >= 2 && first[0] == 0x1f && first[1] == 0x8b {
			return in, nil
		}
		return nil, errNone
	}
	ids := keys.Identities
	if bytes.Contains(first, []byte("-> scrypt ")) {
		if keys.Passphrase == nil {
			return nil, errors.New("it is sealed with a passphrase: AMBER_PASSPHRASE, or a terminal to ask at")
		}
		text, err := keys.Passphrase()
		if err != nil {
			return nil, err
		}
		one, err := age.NewScryptIdentity(text)
		if err != nil {
			return nil, errors.New("that is not the passphrase that it is sealed with")
		}
		ids = []age.Identity{one}
	} else if len(ids) == 0 {
		return nil, errors.New("it is sealed for public keys of age: --identity names a file with one of the secret keys")
	}
	out, err := age.Decrypt(in, ids...)
	if none, ok := errors.AsType[*age.NoIdentityMatchError](err); ok && none != nil {
		if len(keys.Identities) > 0 {
			return nil, errors.New("none of those keys opens it")
		}
		return nil, errors.New("that is not the passphrase that it is sealed with")
	}
	if err != nil {
		return nil, errCutOff
	}
	return out, nil
}

// Read reads a backup whole, checks each file of it against the manifest, and writes the files into a directory that is there and empty.
func Read(r io.Reader, keys Keys, dir string) (*Manifest, error) {
	in, err := opened(r, keys)
	if err != nil {
		return nil, err
	}
	zip, err := gzip.NewReader(in)
	if err != nil {
		return nil, errCutOff
	}
	t := tar.NewReader(zip)
	m, err := manifest(t)
	if err != nil {
		return nil, err
	}
	for i := range m.Files {
		h, err := t.Next()
		if err != nil || h.Name != m.Files[i].Name || h.Size != m.Files[i].Size {
			return nil, errCutOff
		}
		if err := extract(t, m.Files[i], dir); err != nil {
			return nil, err
		}
	}
	if _, err := t.Next(); err != io.EOF {
		return nil, errCutOff
	}
	if _, err := io.Copy(io.Discard, io.LimitReader(zip, 1<<20)); err != nil { // to the end, where the sums are
		return nil, errCutOff
	}
	return m, nil
}

func manifest(t *tar.Reader) (*Manifest, error) {
	h, err := t.Next()
	if err != nil {
		return nil, errCutOff
	}
	if h.Name != manifestName || h.Size > mostManifest {
		return nil, errNone
	}
	raw, err := io.ReadAll(io.LimitReader(t, mostManifest))
	if err != nil {
		return nil, errCutOff
	}
	m := new(Manifest)
	if json.Unmarshal(raw, m) != nil || m.Product != product {
		return nil, errNone
	}
	if m.Format > Format || m.Schema > store.Schema() {
		return nil, fmt.Errorf("it was written by a newer version, %s: this one knows schema %d, and the backup has %d", plain.Text(m.Version), store.Schema(), m.Schema)
	}
	seen := make(map[string]bool)
	for _, f := range m.Files {
		if !slices.Contains(members, f.Name) || seen[f.Name] || f.Size < 0 {
			return nil, errNone
		}
		seen[f.Name] = true
	}
	for _, name := range needed {
		if !seen[name] {
			return nil, fmt.Errorf("%s is not in it, without which nothing can be brought back", name)
		}
	}
	return m, nil
}

func extract(from io.Reader, f File, dir string) error {
	out, err := os.OpenFile(filepath.Join(dir, f.Name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("%s cannot be written: %s", f.Name, plain.Reason(err))
	}
	defer out.Close()
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(writing{out}, sum), from)
	if wrong, ok := errors.AsType[*writeError](err); ok {
		return fmt.Errorf("%s cannot be written: %s", f.Name, plain.Reason(wrong.error))
	}
	if err != nil || n != f.Size {
		return errCutOff
	}
	if hex.EncodeToString(sum.Sum(nil)) != strings.ToLower(f.SHA256) {
		return fmt.Errorf("%s is not as it was written: its sum is another", f.Name)
	}
	if err := out.Sync(); err != nil {
		return fmt.Errorf("%s cannot be written: %s", f.Name, plain.Reason(err))
	}
	return nil
}

// writing tells what goes wrong in writing from what goes wrong in reading.
type writing struct{ io.Writer }

type writeError struct{ error }

func (w writing) Write(p []byte) (int, error) {
	n, err := w.Writer.Write(p)
	if err != nil {
		err = &writeError{err}
	}
	return n, err
}
