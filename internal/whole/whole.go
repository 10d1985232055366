// Package whole writes files that are there whole or as they were.
package whole

import (
	"errors"
	"os"
	"path/filepath"
)

// Write puts a file in the place of what is there, readable by its owner alone, once all of it is on disk.
func Write(name string, content []byte) error {
	tmp, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+"-*") // 0600
	if err != nil {
		return err
	}
	_, err = tmp.Write(content)
	if err = errors.Join(err, tmp.Sync(), tmp.Close()); err == nil {
		err = os.Rename(tmp.Name(), name)
	}
	if err != nil {
		os.Remove(tmp.Name())
	}
	return err
}
