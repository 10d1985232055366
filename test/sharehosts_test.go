package test

import (
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// overFrom signs in to SMB from one of this machine's own addresses.
func overFrom(t *testing.T, g *gateway.Gateway, address, user string) *smb2.Session {
	t.Helper()
	c, err := from(address).Dial("tcp", g.SMB)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return over(t, c, user, 0x0311)
}

// A share that is kept to hosts is used from those and from no others, read where it is only to be read, felt by what is open, and told by why, which has the
// way in as well.
func TestAShareIsKeptToHosts(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	keeper := g.Token(t, "keeper")
	hosts := func(terms string) {
		t.Helper()
		require.Equal(t, 200, ask(t, g, keeper, "PATCH", "/api/v1/shares/nightlog", `{"hosts":`+terms+`}`).status)
	}
	why := func(from, want string) (w api.Why) {
		t.Helper()
		require.NoError(t, json.Unmarshal(ask(t, g, keeper, "GET", "/api/v1/why?user=piran&path=nightlog&want="+want+"&from="+from, "").body, &w))
		return w
	}
	hosts(`[{"from":"127.0.0.2"},{"from":"127.0.0.3","readOnly":true}]`)

	_, err := overFrom(t, g, "127.0.0.1", "piran").Mount("nightlog")
	require.Error(t, err)
	require.Contains(t, string(ask(t, g, keeper, "GET", "/api/v1/events?on=nightlog&only=refused", "").body), `"gate":"origin"`)
	w := why("127.0.0.1", "read")
	require.Equal(t, "origin", w.Gate)
	require.Equal(t, "127.0.0.1", w.From)
	m, err := overFrom(t, g, "127.0.0.1", "piran").Mount("plates")
	require.NoError(t, err, "other shares are used from everywhere")
	require.NoError(t, m.Umount())

	writer := g.Mount(t, overFrom(t, g, "127.0.0.2", "piran"), "nightlog")
	require.NoError(t, writer.WriteFile("from-two.txt", []byte("two"), 0o666))
	reader := g.Mount(t, overFrom(t, g, "127.0.0.3", "piran"), "nightlog")
	got, err := reader.ReadFile("from-two.txt")
	require.NoError(t, err)
	require.Equal(t, "two", string(got))
	require.Error(t, reader.WriteFile("from-three.txt", []byte("three"), 0o666))
	require.Error(t, reader.Remove("from-two.txt"))
	require.True(t, why("127.0.0.2", "change").Allowed)
	w = why("127.0.0.3", "change")
	require.Equal(t, "share", w.Gate)
	require.True(t, why("127.0.0.3", "read").Allowed)

	// What why says is to be typed lets in, and no further than that.
	var fix string
	for _, gate := range why("127.0.0.1", "read").Gates {
		fix += strings.Join(gate.Fix, "; ")
	}
	require.Equal(t, "amber share set nightlog --hosts 127.0.0.1,127.0.0.2,127.0.0.3=ro", fix)

	// The preview says who is there and would not be let in.
	preview := ask(t, g, keeper, "POST", "/api/v1/preview", `{"changes":[{"kind":"share","act":"change","of":{"name":"nightlog"},"with":{"hosts":[{"from":"127.0.0.3"}]}}]}`)
	require.Equal(t, 200, preview.status, "%s", preview.body)
	require.Contains(t, string(preview.body), "who is connected to share nightlog now from 127.0.0.2 is let in no more")
	require.Contains(t, string(preview.body), "share nightlog is used from 127.0.0.3 only; it was used from 127.0.0.2, 127.0.0.3 (to read) only")

	// What is open feels it at the next request; the names of files stay away from who comes from elsewhere.
	f, err := writer.OpenFile("from-two.txt", 2, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("TWO"), 0)
	require.NoError(t, err)
	hosts(`[{"from":"127.0.0.9"}]`)
	_, err = f.WriteAt([]byte("out"), 0)
	require.Error(t, err)
	_, err = reader.ReadDir("")
	require.Error(t, err)

	// A host set says for itself who may write, by whatever name it goes; it is in use.
	write := true
	_, err = g.Service.CreateHostSet(context.Background(), gateway.Keeper, "benches", "", []service.RuleInput{{From: "127.0.0.4", Write: &write}, {From: "127.0.0.5"}})
	require.NoError(t, err)
	hosts(`[{"from":"@BENCHES"}]`)
	name := "desks"
	_, err = g.Service.UpdateHostSet(context.Background(), gateway.Keeper, "benches", service.HostSetChange{Name: &name})
	require.NoError(t, err)
	require.Contains(t, string(ask(t, g, keeper, "GET", "/api/v1/shares/nightlog", "").body), `"hosts":[{"from":"@desks"}]`)
	refused := ask(t, g, keeper, "DELETE", "/api/v1/host-sets/desks", "")
	require.Equal(t, 409, refused.status)
	require.Contains(t, refused.problem.Detail, "nightlog")
	require.NoError(t, g.Mount(t, overFrom(t, g, "127.0.0.4", "piran"), "nightlog").WriteFile("from-four.txt", nil, 0o666))
	reads := g.Mount(t, overFrom(t, g, "127.0.0.5", "piran"), "nightlog")
	_, err = reads.ReadFile("from-four.txt")
	require.NoError(t, err)
	require.Error(t, reads.WriteFile("from-five.txt", nil, 0o666))

	for _, wrong := range []string{`[{"from":"192.0.2.256"}]`, `[{"from":"@nobody"}]`, `[{"from":"@desks","readOnly":true}]`, `[{"from":"a"},{"from":"A"}]`, `[{"from":""}]`, `[{"from":"192.0.2.*"}]`} {
		require.GreaterOrEqual(t, ask(t, g, keeper, "PATCH", "/api/v1/shares/nightlog", `{"hosts":`+wrong+`}`).status, 400, wrong)
	}
	hosts(`[{"from":"*"}]`)
	require.NotContains(t, string(ask(t, g, keeper, "GET", "/api/v1/shares/nightlog", "").body), `"hosts"`, "everyone is as none")
	require.NoError(t, g.Mount(t, overFrom(t, g, "127.0.0.1", "piran"), "nightlog").WriteFile("from-one.txt", nil, 0o666))
}

// By names too, which lead back to the address.
func TestAShareIsKeptToHostsByName(t *testing.T) {
	g := gateway.Start(t)
	_, err := g.Service.UpdateShare(context.Background(), gateway.Keeper, "nightlog", service.ShareChange{Hosts: &[]site.HostTerm{{From: "localhost"}}})
	require.NoError(t, err)
	require.NotNil(t, g.Mount(t, overFrom(t, g, "127.0.0.1", "piran"), "nightlog"))
	_, err = overFrom(t, g, "127.0.0.77", "piran").Mount("nightlog")
	require.Error(t, err)
}

// A share takes so many sessions and no more; who is on it already may connect to it again.
func TestAShareTakesSoManyConnections(t *testing.T) {
	g := gateway.Start(t)
	_, err := g.Service.UpdateShare(context.Background(), gateway.Keeper, "nightlog", service.ShareChange{MostConnections: new(2)})
	require.NoError(t, err)
	first, second, third := g.Dial(t, "piran", 0x0311), g.Dial(t, "wren", 0x0311), g.Dial(t, "isolde", 0x0302)
	one, err := first.Mount("nightlog")
	require.NoError(t, err)
	again, err := first.Mount("nightlog")
	require.NoError(t, err, "who is on it counts once")
	_, err = second.Mount("nightlog")
	require.NoError(t, err)
	_, err = third.Mount("nightlog")
	require.ErrorContains(t, err, "No more connections")
	require.NoError(t, one.Umount())
	_, err = third.Mount("nightlog")
	require.Error(t, err, "the first is still on it")
	require.NoError(t, again.Umount())
	_, err = third.Mount("nightlog")
	require.NoError(t, err)
	_, err = first.Mount("nightlog")
	require.Error(t, err)
	for _, wrong := range []string{`{"mostConnections":-1}`, `{"mostConnections":1000001}`, `{"offline":"always"}`} {
		require.Equal(t, 422, ask(t, g, g.Token(t, "keeper"), "PATCH", "/api/v1/shares/nightlog", wrong).status, wrong)
	}
}
