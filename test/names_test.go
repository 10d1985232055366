package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

// everyByte gives a name with each byte that a name may have.
func everyByte() (out []string) {
	for b := 1; b < 256; b++ {
		if b != '/' {
			out = append(out, "x"+string([]byte{byte(b)})+"y")
		}
	}
	return out
}

func oldTree(t *testing.T, root string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "alt\xe4r"), 0o755))
	for _, name := range everyByte() {
		require.NoError(t, os.WriteFile(filepath.Join(root, "alt\xe4r", name), []byte(name), 0o644))
	}
}

func left(t *testing.T, dir string) []string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	var out []string
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

// Over SMB every name there can be on disk is listed, read, renamed and removed, under a name that clients can spell.
func TestEveryNameOverSMB(t *testing.T) {
	g := gateway.Start(t)
	root := g.Service.Policy().FolderNamed("nightlog").Root
	oldTree(t, root)
	share := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	dirs, err := share.ReadDir("")
	require.NoError(t, err)
	i := slices.IndexFunc(dirs, func(f os.FileInfo) bool { return strings.HasPrefix(f.Name(), "alt") })
	require.GreaterOrEqual(t, i, 0)
	dir := dirs[i].Name()
	require.Equal(t, "alt\uefe4r", dir)
	list, err := share.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, list, 254)
	read := make(map[string]bool)
	for _, f := range list {
		require.True(t, utf8.ValidString(f.Name()))
		require.False(t, strings.ContainsAny(f.Name(), "\"\\:|<>*?"), f.Name())
		text, err := share.ReadFile(dir + `\` + f.Name())
		require.NoError(t, err, f.Name())
		read[string(text)] = true
		require.NoError(t, share.Rename(dir+`\`+f.Name(), dir+`\`+f.Name()+"z"))
	}
	require.Len(t, read, 254, "each under its own name")
	for _, name := range left(t, filepath.Join(root, "alt\xe4r")) {
		text, err := os.ReadFile(filepath.Join(root, "alt\xe4r", name))
		require.NoError(t, err)
		require.Equal(t, string(text)+"z", name, "the rest of the name is what it was")
	}
	require.NoError(t, share.RemoveAll(dir))
	require.NoDirExists(t, filepath.Join(root, "alt\xe4r"))
}

// Over NFS a name is the bytes it is.
func TestEveryNameOverNFS(t *testing.T) {
	for _, version := range []uint32{3, 4} {
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			g := gateway.Start(t)
			nightlogOverNFS(t, g)
			root := g.Service.Policy().FolderNamed("nightlog").Root
			oldTree(t, root)
			out, err := libnfs(t, g.NFS, int(version), 2003, "nfs-ls", "nfs:/nightlog")
			require.NoError(t, err, out)
			require.Contains(t, out, "alt\xe4r")
			c := nfsraw.Dial(t, g.NFS, 2003, 3001)
			top := c.Mnt("/nightlog")
			status, dir := c.Lookup3(top, "alt\xe4r")
			require.Zero(t, status)
			for _, name := range everyByte() {
				if version == 3 {
					status, _ = c.Lookup3(dir, name)
					require.Zero(t, status, "%q", name)
					status, _ = c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(dir); w.String(name); w.Opaque(dir); w.String(name + "z") })
					require.Zero(t, status, "%q", name)
					require.FileExists(t, filepath.Join(root, "alt\xe4r", name+"z"))
					status, _ = c.Do(nfsraw.NFS, 3, 12, func(w *onc.Writer) { w.Opaque(dir); w.String(name + "z") })
					require.Zero(t, status, "%q", name)
					continue
				}
				status, _ = c.Do(nfsraw.NFS, 4, 1, nfsraw.Compound(0, nfsraw.Op(22, dir), nfsraw.Op(32), nfsraw.Op(29, name, name+"z")))
				require.Zero(t, status, "%q", name)
				require.FileExists(t, filepath.Join(root, "alt\xe4r", name+"z"))
				status, _ = c.Do(nfsraw.NFS, 4, 1, nfsraw.Compound(0, nfsraw.Op(22, dir), nfsraw.Op(28, name+"z")))
				require.Zero(t, status, "%q", name)
			}
			require.Empty(t, left(t, filepath.Join(root, "alt\xe4r")))
			status, _ = c.Do(nfsraw.NFS, 3, 13, func(w *onc.Writer) { w.Opaque(top); w.String("alt\xe4r") })
			require.Zero(t, status)
		})
	}
}

// What is written on such a path holds over both protocols, follows it when it is renamed, and is told of, and asked for, as it is spelled.
func TestRulesOnNamesThatAreNotText(t *testing.T) {
	const spelled = `nightlog/alt\xe4r`
	g := gateway.Start(t)
	nightlogOverNFS(t, g)
	root := g.Service.Policy().FolderNamed("nightlog").Root
	oldTree(t, root)
	require.NoError(t, os.Mkdir(filepath.Join(root, "altär"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "altär", "x"), nil, 0o644))
	_, err := g.Service.AddEntry(t.Context(), gateway.Keeper, spelled, service.EntryInput{Who: "observers", Level: "pass", Deny: true})
	require.NoError(t, err)
	_, err = g.Service.SetLimit(t.Context(), gateway.Keeper, service.LimitInput{Kind: limit.OfFolder, Name: spelled, HardBytes: "1M"})
	require.NoError(t, err)

	share := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	c := nfsraw.Dial(t, g.NFS, 2003, 3001)
	top := c.Mnt("/nightlog")
	refusedAt := func(wire, raw, path string) {
		t.Helper()
		_, err := share.ReadDir(wire)
		requireStatus(t, err, accessDenied)
		_, dir := c.Lookup3(top, raw)
		status, _ := c.Lookup3(dir, "x\xffy")
		require.EqualValues(t, 13, status)
		var why api.Why
		answer := ask(t, g, g.Token(t, "keeper"), http.MethodGet, "/api/v1/why?user=piran&want=read&path="+url.QueryEscape(path), "")
		require.NoError(t, json.Unmarshal([]byte(answer.body), &why))
		require.False(t, why.Allowed)
		require.True(t, why.Exists)
		require.Equal(t, path, why.Path)
	}
	refusedAt("alt\uefe4r", "alt\xe4r", spelled)
	_, err = share.ReadFile(`altär\x`)
	require.NoError(t, err, "it is not the same name in other bytes")

	// Somebody else carries it elsewhere, over NFS.
	isolde := nfsraw.Dial(t, g.NFS, 2002, 3001)
	require.NoError(t, g.Service.ClearRules(t.Context(), gateway.Keeper, spelled, false))
	_, err = g.Service.AddEntry(t.Context(), gateway.Keeper, spelled, service.EntryInput{Who: "piran", Level: "pass", Deny: true})
	require.NoError(t, err)
	from := isolde.Mnt("/nightlog")
	status, _ := isolde.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) {
		w.Opaque(from)
		w.String("alt\xe4r")
		w.Opaque(from)
		w.String("neu\xfcr")
	})
	require.Zero(t, status)
	refusedAt("neu\ueffcr", "neu\xfcr", `nightlog/neu\xfcr`)

	// All that is told of it is text, and says it as it can be asked for.
	require.Eventually(t, func() bool {
		list, err := g.Service.Events(t.Context(), store.Match{})
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(e store.Event) bool { return strings.HasPrefix(e.Path, `nightlog/neu\xfcr`) })
	}, 2*time.Minute, 50*time.Millisecond)
	for _, path := range []string{"/api/v1/events", "/api/v1/journal", "/api/v1/limits", "/api/v1/who?path=" + url.QueryEscape(`nightlog/neu\xfcr`)} {
		answer := ask(t, g, g.Token(t, "keeper"), http.MethodGet, path, "")
		require.Equal(t, http.StatusOK, answer.status, path)
		require.True(t, utf8.Valid(answer.body))
		require.NotContains(t, string(answer.body), "\ufffd", path)
		require.Contains(t, string(answer.body), `neu\\xfcr`, path)
	}
	uses, err := g.Service.Uses(t.Context(), service.ByTree)
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(uses, func(u service.Use) bool {
		return u.Name == `nightlog/neu\xfcr` && u.Amount.Files > 200
	}), "what is stored there is counted: %v", uses)
	require.NoError(t, share.Rename("altär", "alt"))
}
