package test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/test/gateway"
)

// Whoever previews without end waits for themselves: others sign in, and change what they have to, meanwhile.
func TestPreviewsStopNobody(t *testing.T) {
	g := gateway.Start(t)
	ctx, stop := context.WithCancel(context.Background())
	auditor := g.Token(t, "auditor")
	var changes []string
	for i := range 40 {
		changes = append(changes, fmt.Sprintf(`{"kind":"group","act":"add","with":{"name":"team%d","members":["staff"]}}`, i))
	}
	body := `{"changes":[` + strings.Join(changes, ",") + `]}`
	var loops sync.WaitGroup
	var answered atomic.Int64
	for range 20 { // more than may wait
		loops.Go(func() {
			for ctx.Err() == nil {
				req, err := http.NewRequestWithContext(ctx, http.MethodPost, g.URL+"/api/v1/preview", strings.NewReader(body))
				if err != nil {
					t.Error(err)
					return
				}
				req.Header.Set("Authorization", "Bearer "+auditor)
				req.Header.Set("Content-Type", "application/json")
				answer, err := http.DefaultClient.Do(req)
				if err != nil {
					continue
				}
				answer.Body.Close()
				switch answer.StatusCode {
				case http.StatusOK:
					answered.Add(1)
				case http.StatusTooManyRequests, http.StatusServiceUnavailable:
					time.Sleep(10 * time.Millisecond)
				default:
					t.Errorf("a preview was answered %d", answer.StatusCode)
				}
			}
		})
	}
	defer loops.Wait()
	defer stop()
	require.Eventually(t, func() bool { return answered.Load() > 0 }, time.Minute, 10*time.Millisecond)
	for i := range 10 {
		_, err := g.Service.SignIn(context.Background(), signin.Try{Name: "keeper", Password: "keeper-at-larkfell", Address: "192.0.2.1"})
		require.NoError(t, err)
		_, err = g.Service.CreateGroup(context.Background(), gateway.Keeper, service.GroupInput{Name: fmt.Sprint("real", i)})
		require.NoError(t, err)
		got := ask(t, g, g.Token(t, "keeper"), http.MethodPost, "/api/v1/preview", `{"changes":[{"kind":"group","act":"remove","of":{"name":"real`+fmt.Sprint(i)+`"}}]}`)
		require.Equal(t, http.StatusOK, got.status, "the previews of others are done meanwhile: %s", got.body)
	}
	require.Zero(t, g.Service.Policy().Directory.GroupNamed("team1"), "nothing that was tried out is there")
	rows, err := g.Service.Journal(context.Background(), store.Match{})
	require.NoError(t, err)
	for _, r := range rows {
		require.NotContains(t, r.Subject, "team1")
	}
	require.NotEqual(t, identity.None, g.Service.Policy().Directory.GroupIndexByGID(g.Service.Policy().Directory.GroupNamed("real9").GID))
}
