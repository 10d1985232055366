package test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/test/gateway"
)

// A client over SMB is told that the password is right and has to be changed first, and gets in with the one that the user has made theirs.
func TestAFirstPasswordOverSMB(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	_, err := g.Service.CreateUser(ctx, gateway.Keeper, service.UserInput{Name: "harrow", Password: "first-of-many-words", MustChange: true})
	require.NoError(t, err)
	_, err = g.TryDial("harrow", "first-of-many-words", 0)
	require.ErrorContains(t, err, "must be changed before logging on")
	_, err = g.TryDial("harrow", "not-the-first-of-many", 0)
	require.Error(t, err)
	require.NotContains(t, err.Error(), "must be changed before logging on", "whoever does not know it is not told")
	a := ask(t, g, "", "POST", "/api/v1/sign-in", `{"user":"harrow","password":"first-of-many-words"}`)
	require.Equal(t, http.StatusForbidden, a.status)
	require.Equal(t, "password", a.problem.Need)
	for _, again := range []string{"first-of-many-words", "harrow12"} {
		require.Equal(t, http.StatusUnprocessableEntity, ask(t, g, "", "POST", "/api/v1/own-password", `{"user":"harrow","old":"first-of-many-words","password":"`+again+`"}`).status)
	}
	require.Equal(t, http.StatusNoContent, ask(t, g, "", "POST", "/api/v1/own-password", `{"user":"harrow","old":"first-of-many-words","password":"one-of-his-own"}`).status)
	g.DialAs(t, "harrow", "one-of-his-own")
	// The last few are not taken again, by whomever they are set.
	require.Equal(t, http.StatusUnprocessableEntity, ask(t, g, g.Token(t, "keeper"), "PUT", "/api/v1/users/harrow/password", `{"password":"first-of-many-words"}`).status)
	require.NoError(t, g.Service.WriteDown(ctx))
	list, err := g.Service.Events(ctx, store.Match{By: "harrow"})
	require.NoError(t, err)
	ways := make(map[string]bool)
	for _, e := range list {
		ways[e.Kind+" "+e.Via] = true
	}
	require.Equal(t, map[string]bool{"sign-in refused SMB": true, "sign-in refused console": true, "signed in SMB": true}, ways)
}

// Who has forgotten the only administrator's password mends that on the machine: with a file in the state directory, and with nothing over the network.
func TestAForgottenPasswordIsMendedOnTheMachine(t *testing.T) {
	bin, state := binary(t), filepath.Join(t.TempDir(), "state")
	p := serve(t, bin, state, "--demo")
	path := filepath.Join(state, "reset-password")
	require.NoError(t, os.Symlink("/etc/hostname", path), "what is no plain file is not read")
	require.Eventually(t, func() bool { _, err := os.Lstat(path); return os.IsNotExist(err) }, 20*time.Second, 100*time.Millisecond)
	require.NoError(t, os.WriteFile(path, []byte("keeper\n"), 0o600))
	code := regexp.MustCompile(`--reset ([a-z0-9-]+)`)
	require.Eventually(t, func() bool { return code.FindString(p.said()) != "" }, 20*time.Second, 100*time.Millisecond)
	require.NoFileExists(t, path)
	found := code.FindAllStringSubmatch(p.said(), -1)
	require.Len(t, found, 1)
	body, err := json.Marshal(map[string]string{"user": "keeper", "reset": found[0][1], "password": "found-again-at-larkfell"})
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, post(t, p.url+"/api/v1/own-password", body))
	require.Equal(t, http.StatusUnauthorized, post(t, p.url+"/api/v1/own-password", body), "it has been used")
	require.Equal(t, http.StatusOK, post(t, p.url+"/api/v1/sign-in", []byte(`{"user":"keeper","password":"found-again-at-larkfell"}`)))
}

// post sends a body and gives the status of the answer.
func post(t *testing.T, url string, body []byte) int {
	t.Helper()
	answer, err := gateway.Client.Post(url, "application/json", bytes.NewReader(body))
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	return answer.StatusCode
}
