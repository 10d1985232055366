package hostnames

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

var dome = netip.MustParseAddr("192.0.2.17")

// server is a made-up resolver that can be slow, fail and lie.
type server struct {
	mu     sync.Mutex
	claims map[string][]string
	leads  map[string][]string
	fails  error
	takes  time.Duration
	asked  atomic.Int64
	now    atomic.Int64
	most   atomic.Int64
}

func (s *server) wait(ctx context.Context) error {
	s.asked.Add(1)
	if n := s.now.Add(1); n > s.most.Load() {
		s.most.Store(n)
	}
	defer s.now.Add(-1)
	s.mu.Lock()
	takes, fails := s.takes, s.fails
	s.mu.Unlock()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(takes):
		return fails
	}
}

func (s *server) LookupAddr(ctx context.Context, addr string) ([]string, error) {
	if err := s.wait(ctx); err != nil {
		return nil, err
	}
	return s.claims[addr], nil
}

func (s *server) LookupNetIP(ctx context.Context, _, host string) (out []netip.Addr, _ error) {
	if err := s.wait(ctx); err != nil {
		return nil, err
	}
	for _, a := range s.leads[host] {
		out = append(out, netip.MustParseAddr(a))
	}
	return out, nil
}

func (s *server) set(fails error, takes time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fails, s.takes = fails, takes
}

var (
	broken  = &net.DNSError{Err: "server misbehaving", IsTemporary: true}
	nothing = &net.DNSError{Err: "no such host", IsNotFound: true}
)

// Where the resolver does not answer, what was known before holds for a while; after that nobody can say that a host does not have a name, and
// that is what is said. A resolver that comes back is believed soon.
func TestAResolverThatIsGone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &server{claims: map[string][]string{dome.String(): {"dome1.larkfell.example."}}, leads: map[string][]string{"dome1.larkfell.example": {dome.String()}}}
		h := New(s)
		of := func() ([]string, bool) { return h.Of(t.Context(), dome, nil) }
		s.set(broken, 0)
		names, sure := of()
		require.Empty(t, names)
		require.False(t, sure, "it was never known")
		s.set(nil, 0)
		names, sure = of()
		require.False(t, sure, "not asked again at once")
		require.Empty(t, names)
		time.Sleep(unsureFor)
		names, sure = of()
		require.True(t, sure)
		require.Equal(t, []string{"dome1.larkfell.example"}, names)

		began := time.Now()
		s.set(broken, 0)
		for time.Since(began) < namesOutlast {
			names, sure = of()
			require.True(t, sure, time.Since(began))
			require.Equal(t, []string{"dome1.larkfell.example"}, names)
			time.Sleep(unsureFor / 2)
		}
		time.Sleep(unsureFor)
		names, sure = of()
		require.False(t, sure, "it was known too long ago")
		require.Empty(t, names)

		s.set(nothing, 0)
		time.Sleep(unsureFor)
		names, sure = of()
		require.True(t, sure, "that there is no such name is an answer")
		require.Empty(t, names)
	})
}

// A name that was taken from a host is believed no longer than it takes to ask again.
func TestANameThatIsTakenAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &server{leads: map[string][]string{"dome1.larkfell.example": {dome.String()}}}
		h := New(s)
		spelt := []string{"dome1.larkfell.example"}
		names, _ := h.Of(t.Context(), dome, spelt)
		require.Len(t, names, 1)
		s.leads = nil
		time.Sleep(namesFor - time.Second)
		names, _ = h.Of(t.Context(), dome, spelt)
		require.Len(t, names, 1, "and not asked for each request")
		time.Sleep(time.Second)
		names, sure := h.Of(t.Context(), dome, spelt)
		require.True(t, sure)
		require.Empty(t, names)
		s.leads = map[string][]string{"dome1.larkfell.example": {dome.String()}}
		h.Expire()
		names, _ = h.Of(t.Context(), dome, spelt)
		require.Len(t, names, 1, "what expired is asked at once")
	})
}

// A resolver that never answers holds a request for as long as is bounded, however many names are to be looked up.
func TestASlowResolverIsWaitedForABoundedTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &server{takes: time.Hour}
		h := New(s)
		var spelt []string
		for i := range 500 {
			spelt = append(spelt, fmt.Sprintf("dome%d.larkfell.example", i))
		}
		began := time.Now()
		_, sure := h.Of(t.Context(), dome, spelt)
		require.False(t, sure)
		require.LessOrEqual(t, time.Since(began), lookupTimeout)
		began = time.Now()
		_, err := h.Addresses(t.Context(), "dome1.larkfell.example")
		require.ErrorIs(t, err, context.DeadlineExceeded)
		require.LessOrEqual(t, time.Since(began), lookupTimeout)
	})
}

// Whoever holds the reverse zone of their own addresses may claim as many names as they like: so many are looked at, and none counts
// that does not lead back.
func TestAHostThatClaimsMuch(t *testing.T) {
	s := &server{claims: map[string][]string{}, leads: map[string][]string{}}
	for i := range 1000 {
		s.claims[dome.String()] = append(s.claims[dome.String()], fmt.Sprintf("n%d.larkfell.example", i))
	}
	s.leads["n7.larkfell.example"] = []string{"192.0.2.99"}
	s.leads["n3.larkfell.example"] = []string{"192.0.2.99", "::ffff:192.0.2.17"}
	names, sure := New(s).Of(t.Context(), dome, nil)
	require.True(t, sure)
	require.Equal(t, []string{"n3.larkfell.example"}, names, "an IPv4 address is the same in both its forms")
	require.LessOrEqual(t, s.asked.Load(), int64(9))
}

// However many addresses come, no more is kept than is bounded.
func TestKnownNamesAreBounded(t *testing.T) {
	s := &server{}
	h := New(s)
	a := netip.MustParseAddr("198.18.0.0")
	var all []netip.Addr
	for range 3 * mostKnown / 2 {
		a = a.Next()
		all = append(all, a)
		h.Of(t.Context(), a, nil)
	}
	require.LessOrEqual(t, len(h.known), mostKnown)
	require.NotEmpty(t, h.known)
	h.Called(all, time.Minute)
	require.LessOrEqual(t, len(h.called), mostKnown)
}

// What hosts are called is asked for some at a time, waited for no longer than the reader wants to, and there for whoever asks next.
func TestWhatHostsAreCalledIsNotWaitedFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &server{takes: time.Second, claims: map[string][]string{}, leads: map[string][]string{}}
		var addrs []netip.Addr
		a := netip.MustParseAddr("198.18.0.0")
		for i := range 200 {
			a = a.Next()
			addrs = append(addrs, a, a)
			name := fmt.Sprintf("h%d.larkfell.example", i)
			s.claims[a.String()], s.leads[name] = []string{name + "."}, []string{a.String()}
		}
		h := New(s)
		began := time.Now()
		called := h.Called(addrs, 300*time.Millisecond)
		require.Equal(t, 300*time.Millisecond, time.Since(began))
		require.Len(t, called, 200)
		for _, name := range called {
			require.Empty(t, name)
		}
		for range 200/mostAsking + 2 {
			time.Sleep(3 * time.Second)
			h.Called(addrs, 0)
		}
		time.Sleep(3 * time.Second)
		for i, addr := range addrs {
			require.Equal(t, fmt.Sprintf("h%d.larkfell.example", i/2), h.Called(addrs, time.Second)[addr])
		}
		require.LessOrEqual(t, s.most.Load(), int64(mostAsking))
	})
}
