package main

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// oci writes an image layout (OCI image specification 1.1) for all architectures as a tar archive: from nothing, with the program, a directory for the
// state that is given to who runs it, and no more.
func oci(in *input, to io.Writer) error {
	var index v1.ImageIndex = mutate.IndexMediaType(empty.Index, types.OCIImageIndex)
	for _, arch := range in.architectures {
		image, err := imageFor(in, arch)
		if err != nil {
			return err
		}
		index = mutate.AppendManifests(index, mutate.IndexAddendum{Add: image, Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "linux", Architecture: arch}}})
	}
	dir, err := os.MkdirTemp("", "amber-image-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if _, err := layout.Write(dir, index); err != nil {
		return err
	}
	return tarOf(in, dir, to)
}

func imageFor(in *input, arch string) (v1.Image, error) {
	var raw bytes.Buffer
	w := tar.NewWriter(&raw)
	// The user has no name in an image that is made from nothing.
	const user = 65532
	for _, dir := range []string{"usr/", "usr/bin/", "var/", "var/lib/"} {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir, Mode: 0o755, ModTime: in.made, Format: tar.FormatPAX}); err != nil {
			return nil, err
		}
	}
	for _, dir := range []string{"var/lib/amber-gatekeeper/", "tmp/"} {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir, Mode: 0o700, Uid: user, Gid: user, ModTime: in.made, Format: tar.FormatPAX}); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(addFile(w, in.program(arch), "usr/bin/amber", 0o755, in), w.Close()); err != nil {
		return nil, err
	}
	image := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON)
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw.Bytes())), nil }, tarball.WithMediaType(types.OCILayer))
	if err != nil {
		return nil, err
	}
	image, err = mutate.Append(image, mutate.Addendum{Layer: layer, MediaType: types.OCILayer, History: v1.History{Created: v1.Time{Time: in.made}, CreatedBy: name}})
	if err != nil {
		return nil, err
	}
	config, err := image.ConfigFile()
	if err != nil {
		return nil, err
	}
	config = config.DeepCopy()
	config.OS, config.Architecture, config.Created = "linux", arch, v1.Time{Time: in.made}
	config.Config = v1.Config{User: "65532:65532", Entrypoint: []string{"/usr/bin/amber"}, Cmd: []string{"serve"}, WorkingDir: "/",
		Env:          []string{"AMBER_STATE=/var/lib/amber-gatekeeper", "AMBER_CONSOLE=:8460", "AMBER_SMB=:4450", "AMBER_NFS=:20490", "HOME=/var/lib/amber-gatekeeper"},
		ExposedPorts: map[string]struct{}{"8460/tcp": {}, "4450/tcp": {}, "20490/tcp": {}},
		Volumes:      map[string]struct{}{"/var/lib/amber-gatekeeper": {}},
		StopSignal:   "SIGTERM",
		Labels: map[string]string{"org.opencontainers.image.title": "Amber Gatekeeper", "org.opencontainers.image.description": summary,
			"org.opencontainers.image.version": in.version, "org.opencontainers.image.licenses": "Apache-2.0"}}
	return mutate.ConfigFile(image, config)
}

// tarOf writes a directory, in the order of names.
func tarOf(in *input, dir string, to io.Writer) error {
	var names []string
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			names = append(names, path)
		}
		return err
	})
	if err != nil {
		return err
	}
	slices.Sort(names)
	w := tar.NewWriter(to)
	for _, path := range names {
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		if err := addFile(w, path, rel, 0o644, in); err != nil {
			return err
		}
	}
	return w.Close()
}
