// Command packaging puts the built programs into packages: a deb, a plain tar and an OCI image for each architecture, a list of parts
// (CycloneDX), and their sums. The same input gives the same bytes.
package main

import (
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

const (
	name    = "amber-gatekeeper"
	summary = "NAS file gateway that tells why: SMB and NFS shares, access control lists, limits and audit"
)

// input is what packages are made from.
type input struct {
	root    string // of the repository
	bin     string // directory with a program amber-ARCH for each architecture
	out     string
	version string // such as 0.1.0+1a2b3c4
	made    time.Time

	architectures []string
}

func (in *input) program(arch string) string { return filepath.Join(in.bin, "amber-"+arch) }

// content is one file of a package.
type content struct {
	from, to string
	mode     os.FileMode
	config   bool
}

// contents are what deb and tar have, with the paths of an installed system.
func (in *input) contents(arch string) []content {
	files := filepath.Join(in.root, "packaging", "files")
	out := []content{
		{in.program(arch), "/usr/bin/amber", 0o755, false},
		{filepath.Join(files, "amber.yaml"), "/etc/amber-gatekeeper/amber.yaml", 0o644, true},
		{filepath.Join(files, name+".sysusers"), "/usr/lib/sysusers.d/amber-gatekeeper.conf", 0o644, false},
	}
	for _, unit := range []string{".service", "-console.socket", "-smb.socket", "-nfs.socket"} {
		out = append(out, content{filepath.Join(files, name+unit), "/lib/systemd/system/" + name + unit, 0o644, false})
	}
	docs, _ := filepath.Glob(filepath.Join(in.root, "docs", "*.md")) // the pattern is well formed
	slices.Sort(docs)
	for _, d := range append(docs, filepath.Join(in.root, "README.md"), filepath.Join(in.root, "CHANGELOG.md"), filepath.Join(in.root, "SECURITY.md")) {
		out = append(out, content{d, "/usr/share/doc/" + name + "/" + filepath.Base(d), 0o644, false})
	}
	return append(out, content{filepath.Join(in.root, "LICENSE"), "/usr/share/doc/" + name + "/copyright", 0o644, false})
}

func main() {
	in := input{}
	flag.StringVar(&in.root, "root", "..", "root of the repository")
	flag.StringVar(&in.bin, "bin", "", "directory of the programs")
	flag.StringVar(&in.out, "out", "", "directory that the packages are put into")
	flag.StringVar(&in.version, "version", "", "version of the packages")
	arches := flag.String("arch", "amd64,arm64", "architectures, parted by commas")
	made := flag.String("made", "", "moment that all files carry (RFC 3339)")
	flag.Parse()
	at, err := time.Parse(time.RFC3339, *made)
	if err != nil || in.bin == "" || in.out == "" || in.version == "" {
		log.Fatal("packaging: -bin, -out, -version and -made are needed")
	}
	in.made, in.architectures = at.UTC(), strings.Split(*arches, ",")
	if err := run(&in); err != nil {
		log.Fatal("packaging: ", err)
	}
}

func run(in *input) error {
	if err := os.MkdirAll(in.out, 0o755); err != nil {
		return err
	}
	var written []string
	for _, arch := range in.architectures {
		debName := fmt.Sprintf("%s_%s_%s.deb", name, in.version, arch)
		tarName := fmt.Sprintf("%s-%s-linux-%s.tar.gz", name, in.version, arch)
		if err := errors.Join(in.write(debName, func(w io.Writer) error { return deb(in, arch, w) }),
			in.write(tarName, func(w io.Writer) error { return plainTar(in, arch, w) })); err != nil {
			return err
		}
		written = append(written, debName, tarName)
	}
	image, parts := fmt.Sprintf("%s-%s-oci.tar", name, in.version), fmt.Sprintf("%s-%s.cdx.json", name, in.version)
	if err := errors.Join(in.write(image, func(w io.Writer) error { return oci(in, w) }), in.write(parts, func(w io.Writer) error { return partsList(in, w) })); err != nil {
		return err
	}
	written = append(written, image, parts)
	slices.Sort(written)
	return in.write("SHA256SUMS", func(w io.Writer) error {
		for _, n := range written {
			raw, err := os.ReadFile(filepath.Join(in.out, n))
			if err != nil {
				return err
			}
			fmt.Fprintf(w, "%x  %s\n", sha256.Sum256(raw), n)
		}
		return nil
	})
}

// write writes a file of the output whole.
func (in *input) write(file string, fill func(io.Writer) error) error {
	path := filepath.Join(in.out, file)
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if err := errors.Join(fill(f), f.Close()); err != nil {
		return fmt.Errorf("%s: %w", strings.TrimPrefix(path, in.out+"/"), err)
	}
	return nil
}
