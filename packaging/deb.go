package main

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/goreleaser/nfpm/v2"
	debian "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
)

// deb writes a package of Debian's format 2.0 (deb(5)).
func deb(in *input, arch string, to io.Writer) error {
	scripts := filepath.Join(in.root, "packaging", "files")
	info := &nfpm.Info{Name: name, Arch: arch, Platform: "linux", Version: in.version, VersionSchema: "none", Section: "net", Priority: "optional", MTime: in.made,
		Maintainer: "Amber Gatekeeper <packages@larkfell.example>", Description: summary, License: "Apache-2.0", DisableGlobbing: true}
	info.Scripts.PostInstall, info.Scripts.PreRemove = filepath.Join(scripts, "postinst"), filepath.Join(scripts, "prerm")
	info.Recommends = []string{"systemd"}
	for _, c := range in.contents(arch) {
		one := &files.Content{Source: c.from, Destination: c.to, FileInfo: &files.ContentFileInfo{Mode: c.mode, Owner: "root", Group: "root", MTime: in.made}}
		if c.config {
			one.Type = files.TypeConfigNoReplace
		}
		info.Contents = append(info.Contents, one)
	}
	return debian.Default.Package(info, to)
}

// plainTar writes the same files below one directory.
func plainTar(in *input, arch string, to io.Writer) error {
	zip, err := gzip.NewWriterLevel(to, gzip.BestCompression)
	if err != nil {
		return err
	}
	w := tar.NewWriter(zip)
	top := fmt.Sprintf("%s-%s", name, in.version)
	for _, c := range in.contents(arch) {
		if err := addFile(w, c.from, top+"/"+strings.TrimPrefix(c.to, "/"), c.mode, in); err != nil {
			return err
		}
	}
	return errors.Join(w.Close(), zip.Close())
}

func addFile(w *tar.Writer, from, to string, mode os.FileMode, in *input) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Name: to, Mode: int64(mode), Size: st.Size(), ModTime: in.made, Uname: "root", Gname: "root", Format: tar.FormatPAX}); err != nil {
		return err
	}
	_, err = io.Copy(w, f)
	return err
}
