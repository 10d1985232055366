package bench

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/test/gateway"
)

// BenchmarkBesidePreviews is at what rate somebody signs in and opens files while an auditor previews changes in a loop, on a site of three thousand people,
// beside the rate without: the limit is 0.8 of it.
func BenchmarkBesidePreviews(b *testing.B) {
	g := gateway.Start(b)
	ctx := context.Background()
	_, err := g.Service.Make(ctx, gateway.Keeper, 0, func(ctx context.Context, set *service.Service) error {
		for i := range 300 {
			if _, err := set.CreateGroup(ctx, gateway.Keeper, service.GroupInput{Name: fmt.Sprint("crew", i)}); err != nil {
				return err
			}
		}
		for i := range 3000 {
			if _, err := set.CreateUser(ctx, gateway.Keeper, service.UserInput{Name: fmt.Sprint("guest", i), Groups: []string{fmt.Sprint("crew", i%300)}}); err != nil {
				return err
			}
		}
		for i := range 60 {
			if _, err := set.AddEntry(ctx, gateway.Keeper, "plates", service.EntryInput{Who: fmt.Sprint("crew", i%300), Level: "read", Deny: i%7 == 0}); err != nil {
				return err
			}
		}
		return nil
	})
	require.NoError(b, err)
	share := g.Mount(b, g.Dial(b, "piran", 0), "nightlog")
	require.NoError(b, share.WriteFile("opened", nil, 0o600))
	rate := func(do func()) float64 {
		n, begun := 0, time.Now()
		for time.Since(begun) < 1500*time.Millisecond {
			do()
			n++
		}
		return float64(n) / time.Since(begun).Seconds()
	}
	works := map[string]func(){
		"sign-ins": func() {
			_, err := g.Service.SignIn(ctx, signin.Try{Name: "keeper", Password: "keeper-at-larkfell", Address: "192.0.2.1"})
			require.NoError(b, err)
		},
		"opens": func() {
			f, err := share.Open("opened")
			require.NoError(b, err)
			require.NoError(b, f.Close())
		},
	}
	token := g.Token(b, "auditor")
	body := `{"changes":[{"kind":"entry","act":"add","with":{"path":"plates","who":"staff","level":"change"}}]}`
	for b.Loop() {
		for name, do := range works {
			var alone, beside float64
			for range 3 { // in turns, as the machine is shared
				alone += rate(do)
				loop, stop := context.WithCancel(ctx)
				var wait sync.WaitGroup
				previews := 0
				wait.Go(func() {
					for loop.Err() == nil {
						req, _ := http.NewRequestWithContext(loop, http.MethodPost, g.URL+"/api/v1/preview", strings.NewReader(body))
						req.Header.Set("Authorization", "Bearer "+token)
						req.Header.Set("Content-Type", "application/json")
						if resp, err := http.DefaultClient.Do(req); err == nil {
							resp.Body.Close()
							previews++
						}
					}
				})
				beside += rate(do)
				stop()
				wait.Wait()
				require.Positive(b, previews)
			}
			b.ReportMetric(beside/alone, name)
		}
	}
}
