package test

import (
	"context"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// By the name of an older server a client gets what has taken the place of its shares, here or, by a referral, elsewhere; by a client from other hands.
func TestOtherNamesOfTheServer(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	require.Contains(t, desktop(t, g, "piran", `refer '\shack\old'`)[0], "NOT_FOUND")
	_, err := g.Service.CreateServerName(ctx, gateway.Keeper, service.ServerNameInput{Name: "shack", Leads: []service.LeadInput{{Share: "log", To: "nightlog"}, {Share: "old", To: `\\vault\old$`}}})
	require.NoError(t, err)
	lines := [][2]string{
		{"at shack log", "Larkfell night log."},
		{"at shack.larkfell.example LOG", "Larkfell night log."},
		{"at shack nightlog", "Larkfell night log."},
		{"at anything nightlog", "Larkfell night log."},
		{"at anything log", "BAD_NETWORK_NAME"},
		{"at shack old", "PATH_NOT_COVERED"},
		{`refer '\shack\old\2019\plate.fits'`, `1 place, version 3, for 20 bytes, 300 s: \vault\old$`},
		{`refer '\SHACK.larkfell.example\OLD' ex`, `1 place, version 4, for 54 bytes, 300 s: \vault\old$`},
		{`refer '\shack\log'`, "STATUS_NOT_FOUND"},
		{`refer '\shack'`, "STATUS_NOT_FOUND"},
		{`refer ''`, "STATUS_NOT_FOUND"},
		{`refer '\larkfell\old'`, "STATUS_NOT_FOUND"},
	}
	asked := make([]string, len(lines))
	for i, l := range lines {
		asked[i] = l[0]
	}
	for i, got := range desktop(t, g, "piran", asked...) {
		require.Contains(t, got, lines[i][1], lines[i][0])
	}
}

// What makes no sense is refused, says why, and changes nothing; a share that a name leads to stays.
func TestServerNamesAreChecked(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	names := "/api/v1/server-names"
	require.Equal(t, http.StatusCreated, ask(t, g, keeper, "POST", names, `{"name":"shack","leads":[{"share":"log","to":"nightlog"},{"share":"a","to":"\\\\shed\\b"}]}`).status)
	require.Equal(t, http.StatusCreated, ask(t, g, keeper, "POST", names, `{"name":"shed"}`).status)
	before := g.Changes(t)
	for _, c := range [][4]string{
		{"POST", names, `{"name":"SHACK"}`, "already"},
		{"POST", names, `{"name":"192.0.2.1"}`, "address"},
		{"POST", names, `{"name":"a b"}`, "no name of a server"},
		{"POST", names, `{"name":"-a"}`, "no name of a server"},
		{"POST", names, `{"name":""}`, "no name of a server"},
		{"POST", names, `{"name":"c","leads":[{"share":"log","to":"nothing"}]}`, "no share"},
		{"POST", names, `{"name":"c","leads":[{"share":"a/b","to":"nightlog"}]}`, "share"},
		{"POST", names, `{"name":"c","leads":[{"share":"a","to":"\\\\vault"}]}`, "no place"},
		{"POST", names, `{"name":"c","leads":[{"share":"a","to":"\\\\va ult\\b"}]}`, "no place"},
		{"POST", names, `{"name":"c","leads":[{"share":"a","to":"\\\\vault\\b\\c:d"}]}`, "no place"},
		{"PATCH", names + "/shed", `{"leads":[{"share":"b","to":"\\\\shack\\a"}]}`, "circle"},
		{"PATCH", names + "/shed", `{"leads":[{"share":"b","to":"\\\\SHED.larkfell.example\\B"}]}`, "circle"},
		{"PATCH", names + "/nothing", `{"description":"x"}`, "no server name"},
		{"DELETE", "/api/v1/shares/nightlog", "", "shack"},
	} {
		a := ask(t, g, keeper, c[0], c[1], c[2])
		require.GreaterOrEqual(t, a.status, 400, "%v: %s", c, a.body)
		require.Contains(t, string(a.body), c[3], "%v", c)
	}
	require.Equal(t, before, g.Changes(t))
	// A share may be called otherwise, and is led to as before; without the lead it may go.
	require.Equal(t, http.StatusOK, ask(t, g, keeper, "PATCH", "/api/v1/shares/nightlog", `{"name":"diary"}`).status)
	require.Contains(t, desktop(t, g, "piran", "at shack log")[0], "Larkfell night log.")
	require.Equal(t, http.StatusOK, ask(t, g, keeper, "PATCH", names+"/shack", `{"leads":[{"share":"log","to":""}]}`).status)
	require.Equal(t, http.StatusNoContent, ask(t, g, keeper, "DELETE", "/api/v1/shares/diary", "").status)
	require.Equal(t, http.StatusForbidden, ask(t, g, g.Token(t, "auditor"), "POST", names, `{"name":"mine"}`).status)
}
