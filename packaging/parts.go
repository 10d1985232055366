package main

import (
	"crypto/sha1"
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

// partsList writes what the program is made of, in CycloneDX's form: the modules that the program itself says it holds, and the packages of the console
// that its lock file names.
func partsList(in *input, to io.Writer) error {
	info, err := buildinfo.ReadFile(in.program(in.architectures[0]))
	if err != nil {
		return err
	}
	bom := cdx.NewBOM()
	root := cdx.Component{BOMRef: name, Type: cdx.ComponentTypeApplication, Name: name, Version: in.version, Description: summary, Licenses: &cdx.Licenses{{License: &cdx.License{ID: "Apache-2.0"}}}}
	bom.Metadata = &cdx.Metadata{Timestamp: in.made.Format("2006-01-02T15:04:05Z"), Component: &root}
	parts := []cdx.Component{{BOMRef: "go", Type: cdx.ComponentTypeLibrary, Name: "go", Description: "the standard library", Version: strings.TrimPrefix(info.GoVersion, "go"),
		PackageURL: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go")}}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		parts = append(parts, cdx.Component{BOMRef: "go:" + m.Path, Type: cdx.ComponentTypeLibrary, Name: m.Path, Version: m.Version, PackageURL: "pkg:golang/" + m.Path + "@" + m.Version})
	}
	console, err := consoleParts(filepath.Join(in.root, "web", "package-lock.json"))
	if err != nil {
		return err
	}
	parts = append(parts, console...)
	bom.Components = &parts
	refs := make([]string, len(parts))
	for i, p := range parts {
		refs[i] = p.BOMRef
	}
	bom.Dependencies = &[]cdx.Dependency{{Ref: name, Dependencies: &refs}}
	bom.SerialNumber = serial(in.version)
	return cdx.NewBOMEncoder(to, cdx.BOMFileFormatJSON).SetPretty(true).Encode(bom)
}

// consoleParts are the packages that the console is built from, without those that only build or test it.
func consoleParts(lock string) (out []cdx.Component, err error) {
	raw, err := os.ReadFile(lock)
	if err != nil {
		return nil, err
	}
	var is struct {
		Packages map[string]struct {
			Version string
			Dev     bool
			License string
		}
	}
	if err := json.Unmarshal(raw, &is); err != nil {
		return nil, err
	}
	for _, path := range slices.Sorted(maps.Keys(is.Packages)) {
		p := is.Packages[path]
		i := strings.LastIndex(path, "node_modules/")
		if p.Dev || i < 0 {
			continue
		}
		pkg := path[i+len("node_modules/"):]
		one := cdx.Component{BOMRef: "npm:" + path, Type: cdx.ComponentTypeLibrary, Name: pkg, Version: p.Version, PackageURL: "pkg:npm/" + strings.Replace(pkg, "@", "%40", 1) + "@" + p.Version}
		if p.License != "" {
			one.Licenses = &cdx.Licenses{{Expression: p.License}}
		}
		out = append(out, one)
	}
	return out, nil
}

// serial is the same for the same version: a UUID of version 5 (RFC 9562 section 5.5).
func serial(version string) string {
	sum := sha1.Sum([]byte(name + " " + version))
	sum[6], sum[8] = sum[6]&0x0f|0x50, sum[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
}
