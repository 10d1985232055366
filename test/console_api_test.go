package test

import (
	"bufio"
	"context"
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

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

func get[T any](t *testing.T, g *gateway.Gateway, token, path string) (out T) {
	t.Helper()
	a := ask(t, g, token, "GET", "/api/v1/"+path, "")
	require.Equal(t, http.StatusOK, a.status, "%s: %s", path, a.body)
	require.NoError(t, json.Unmarshal(a.body, &out))
	return out
}

// A directory is listed page by page, each name once and in order, whatever there is in it; with whose it is and what somebody may do there, as the audit has it.
func TestADirectoryIsBrowsed(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	root := filepath.Join(g.State, "volumes/summit/nightlog/many")
	require.NoError(t, os.Mkdir(root, 0o770))
	var names []string
	for i := range 25 {
		names = append(names, fmt.Sprintf("file-%02d.txt", i))
	}
	names = append(names, "ümlaut", "trailing ", "new\nline", "\xff\xfe", "UPPER", "..hidden", "a\\x20b")
	for _, n := range names {
		require.NoError(t, os.WriteFile(filepath.Join(root, n), []byte("12345"), 0o640))
	}
	require.NoError(t, os.Mkdir(filepath.Join(root, "below"), 0o770))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(root, "leads-out")))
	for _, most := range []int{1, 2, 3, 7, 34, 35, 500} {
		var seen []string
		after := ""
		for {
			page := get[api.Browsed](t, g, keeper, "browse?path=nightlog/many&limit="+fmt.Sprint(most)+"&after="+url.QueryEscape(after))
			require.LessOrEqual(t, len(page.Below), most)
			for _, b := range page.Below {
				seen = append(seen, b.Name)
			}
			if !page.More {
				break
			}
			after = page.Below[len(page.Below)-1].Name
		}
		require.Len(t, seen, len(names)+2, "pages of %d", most)
		require.Len(t, slices.Compact(slices.Sorted(slices.Values(seen))), len(seen), "each once")
	}
	all := get[api.Browsed](t, g, keeper, "browse?path=nightlog/many&user=isolde")
	who := map[string]string{}
	for _, b := range all.Below {
		who[b.Name] = string(b.Sort)
		if b.Sort == "file" {
			require.EqualValues(t, 5, b.Size)
			require.Equal(t, "change over SMB", b.Level.Text)
		}
		if b.Sort == "link" {
			require.Nil(t, b.Level)
		}
	}
	require.Equal(t, "directory", who["below"])
	require.Equal(t, "link", who["leads-out"])
	require.Len(t, get[api.Browsed](t, g, keeper, "browse?path=nightlog/many&only=directories").Below, 1)
	require.Len(t, get[api.Browsed](t, g, keeper, "browse?path=nightlog/many&match=UPP").Below, 1)
	require.Empty(t, get[api.Browsed](t, g, keeper, "browse?path=nightlog/many/below").Below)
	// nothing is told of what lies elsewhere
	for _, path := range []string{"nightlog/../plates", "nightlog/many/../../..", "nightlog/many/leads-out", "nightlog/many/UPPER", "nowhere", "", "nightlog/none", "/etc"} {
		a := ask(t, g, keeper, "GET", "/api/v1/browse?path="+url.QueryEscape(path), "")
		require.GreaterOrEqual(t, a.status, 400, "%q: %s", path, a.body)
		require.Less(t, a.status, 500, "%q", path)
	}
	// who may not look, and controls nothing there, is told nothing
	harrow := somebody(t, g, "harrow", identity.NoRole)
	require.Equal(t, http.StatusForbidden, ask(t, g, harrow, "GET", "/api/v1/browse?path=nightlog", "").status)
	_, err := g.Service.AddEntry(context.Background(), gateway.Keeper, "nightlog", service.EntryInput{Who: "harrow", Level: acl.Control.String()})
	require.NoError(t, err)
	require.NotEmpty(t, get[api.Browsed](t, g, harrow, "browse?path=nightlog&user=harrow").Below)
}

// The lists of the records can be had as they were: what has been made since is not there, what has been removed is, and what is asked there of access
// is answered by the same.
func TestTheRecordsAsTheyWere(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	keeper := g.Token(t, "keeper")
	names := func(list, at string) (out []string) {
		for _, one := range get[[]struct{ Name string }](t, g, keeper, list+"?at="+url.QueryEscape(at)) {
			out = append(out, one.Name)
		}
		return out
	}
	time.Sleep(1100 * time.Millisecond) // moments are told apart by the journal's own
	before := time.Now().UTC().Format(time.RFC3339Nano)
	time.Sleep(1100 * time.Millisecond)
	_, err := g.Service.CreateFolder(ctx, gateway.Keeper, service.FolderInput{Name: "spectra", Volume: "summit"})
	require.NoError(t, err)
	_, err = g.Service.CreateUser(ctx, gateway.Keeper, service.UserInput{Name: "harrow"})
	require.NoError(t, err)
	_, err = g.Service.CreateGroup(ctx, gateway.Keeper, service.GroupInput{Name: "crew"})
	require.NoError(t, err)
	require.NoError(t, g.Service.SetService(ctx, gateway.Keeper, "nfs", service.ServiceChange{On: new(false)}))
	now := time.Now().UTC().Format(time.RFC3339Nano)
	for list, made := range map[string]string{"folders": "spectra", "users": "harrow", "groups": "crew"} {
		require.Contains(t, names(list, now), made)
		require.NotContains(t, names(list, before), made)
		require.Equal(t, http.StatusNotFound, ask(t, g, keeper, "GET", "/api/v1/"+list+"/"+made+"?at="+url.QueryEscape(before), "").status)
		// page by page as well: the next page is of the same moment
		a := ask(t, g, keeper, "GET", "/api/v1/"+list+"?limit=1&at="+url.QueryEscape(before), "")
		require.Contains(t, a.header.Get("Link"), "at=")
	}
	require.True(t, get[[]api.Service](t, g, keeper, "services?at="+url.QueryEscape(before))[1].On)
	require.False(t, get[[]api.Service](t, g, keeper, "services")[1].On)
	for _, wrong := range []string{"2999-01-01T00:00:00Z", "1999-01-01T00:00:00Z", "yesterday"} {
		a := ask(t, g, keeper, "GET", "/api/v1/folders?at="+wrong, "")
		require.Contains(t, []int{400, 422}, a.status, "%s", a.body)
	}
}

// Who watches is told when other records come into force, and of nothing else; and no more once they are signed out.
func TestWhoWatchesIsTold(t *testing.T) {
	g := gateway.Start(t)
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	require.Equal(t, http.StatusUnauthorized, ask(t, g, "", "GET", "/api/v1/watch", "").status)
	harrow := somebody(t, g, "harrow", identity.NoRole)
	req, err := http.NewRequestWithContext(ctx, "GET", g.URL+"/api/v1/watch", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+harrow)
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	require.Equal(t, "text/event-stream", r.Header.Get("Content-Type"))
	lines := make(chan string)
	go func() {
		defer close(lines)
		for s := bufio.NewScanner(r.Body); s.Scan(); {
			lines <- s.Text()
		}
	}()
	next := func(prefix string) string {
		for l := range lines {
			if strings.HasPrefix(l, prefix) {
				return l
			}
		}
		return ""
	}
	require.Equal(t, "event: still", next("event:"))
	for range 3 {
		_, err := g.Service.CreateGroup(ctx, gateway.Keeper, service.GroupInput{Name: fmt.Sprintf("crew-%d", time.Now().UnixNano())})
		require.NoError(t, err)
		require.Equal(t, "event: moved", next("event:"))
		require.NotContains(t, next("data:"), "crew", "what has changed is not told")
	}
	require.Equal(t, http.StatusNoContent, ask(t, g, harrow, "POST", "/api/v1/sign-out", "").status)
	require.Empty(t, next("event: moved"), "it ends by itself")
}

// What is one's own: where one gets, by the way in by which one does, and nobody else's.
func TestWhatIsOnesOwn(t *testing.T) {
	g := gateway.Start(t)
	for user, want := range map[string][]string{"orla": {"visitors", "scratch"}, "bettany": {"nightlog", "instruments", "plates", "visitors", "scratch", "personal"}, "wren": nil} {
		token := g.Token(t, user)
		own := get[api.Own](t, g, token, "own")
		require.Equal(t, user, own.User)
		var got []string
		for _, f := range own.Folders {
			got = append(got, f.Name)
			for _, w := range f.Ways {
				require.True(t, w.Over == "SMB" && f.Level.SMB != "nothing" || w.Over == "NFS" && f.Level.NFS != "nothing", "%s, %s: %+v", user, f.Name, w)
				require.NotContains(t, w.Text, "USER")
			}
		}
		if want != nil {
			require.ElementsMatch(t, want, got, user)
		}
		require.NotNil(t, own.Use)
		require.Equal(t, user, own.Use.Name)
	}
}

// A part of the matrix is what stands there in the whole of it.
func TestAPartOfTheMatrix(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	whole := get[api.Matrix](t, g, keeper, "matrix")
	for columns := 1; columns <= len(whole.Folders)+1; columns++ {
		for from := 0; from <= len(whole.Folders); from += columns {
			part := get[api.Matrix](t, g, keeper, fmt.Sprintf("matrix?folderLimit=%d&folderOffset=%d&limit=3&offset=2", columns, from))
			require.Equal(t, len(whole.Folders), part.FolderTotal)
			require.Equal(t, whole.Folders[from:min(from+columns, len(whole.Folders))], part.Folders)
			for i, r := range part.Rows {
				require.Equal(t, whole.Rows[i+2].Who, r.Who)
				require.Equal(t, whole.Rows[i+2].Levels[from:min(from+columns, len(whole.Folders))], r.Levels)
			}
		}
	}
	require.Equal(t, 1, get[api.Matrix](t, g, keeper, "matrix?folder=PLAT").FolderTotal)
}
