package audit

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// grown is a big site: 10,000 users, 1,000 groups nested five deep, 200 folders with 50,000
// entries on 5,000 paths, each published over both protocols.
func grown() site.Records {
	rnd := rand.New(rand.NewPCG(8, 60))
	r := site.Records{Services: site.Services{SMB: true, NFS: true}, Volumes: []site.Volume{{ID: 1, Name: "summit", Path: "/srv"}}}
	const users, groups, folders, paths, entries = 10_000, 1_000, 200, 5_000, 50_000
	for i := 1; i <= groups; i++ {
		g := identity.Group{ID: identity.ID(i), Name: fmt.Sprintf("g%d", i), GID: uint32(20_000 + i)}
		if depth := (i - 1) % 5; depth > 0 { // four in five are in the one before
			r.Groups[i-2].Members = append(r.Groups[i-2].Members, identity.GroupPrincipal(g.ID))
		}
		r.Groups = append(r.Groups, g)
	}
	// Staff is everybody, by way of all other groups.
	staff := identity.Group{ID: groups + 1, Name: "staff", GID: 20_000}
	for i := range groups {
		staff.Members = append(staff.Members, identity.GroupPrincipal(identity.ID(i+1)))
	}
	r.Groups = append(r.Groups, staff)
	for i := 1; i <= users; i++ {
		r.Users = append(r.Users, identity.User{ID: identity.ID(i), Name: fmt.Sprintf("u%d", i), UID: uint32(30_000 + i), Primary: identity.ID(1 + rnd.IntN(groups)), SMB: true, NFS: true})
		for range 3 {
			g := &r.Groups[rnd.IntN(groups)]
			who := identity.UserPrincipal(identity.ID(i))
			if len(g.Members) == 0 || g.Members[len(g.Members)-1] != who {
				g.Members = append(g.Members, who)
			}
		}
	}
	for i := 1; i <= folders; i++ {
		f := site.Folder{ID: int64(i), Name: fmt.Sprintf("f%d", i), VolumeID: 1, Path: fmt.Sprintf("f%d", i), Owner: 1, Group: 1}
		for p := range paths / folders {
			path := ""
			for at := p; at > 0; at = (at - 1) / 2 { // a tree, two below each
				path = fmt.Sprintf("d%d/", at) + path
			}
			rule := acl.Rule{ID: int64(i*1000 + p), Path: path[:max(0, len(path)-1)], Cut: p > 0 && p%11 == 0}
			for e := range entries / paths {
				who := identity.GroupPrincipal(identity.ID(1 + rnd.IntN(groups)))
				if e%2 == 1 {
					who = identity.UserPrincipal(identity.ID(1 + rnd.IntN(users)))
				}
				if e == 0 && (p == 0 || rule.Cut) {
					who = identity.GroupPrincipal(staff.ID)
					rule.Entries = append(rule.Entries, acl.Entry{ID: rule.ID * 100, Who: who, Level: acl.Pass, Applies: acl.Everywhere})
					continue
				}
				rule.Entries = append(rule.Entries, acl.Entry{ID: rule.ID*100 + int64(e), Who: who, Deny: rnd.IntN(12) == 0, Level: acl.Levels[1+rnd.IntN(4)], Applies: acl.Everywhere})
			}
			f.Rules = append(f.Rules, rule)
		}
		r.Folders = append(r.Folders, f)
		r.Shares = append(r.Shares, site.Share{ID: int64(i), Name: f.Name, FolderID: f.ID})
		r.Exports = append(r.Exports, site.Export{ID: int64(i), Path: "/" + f.Name, FolderID: f.ID, Rules: []site.ClientRule{{ID: int64(i), From: "192.0.2.0/24", Write: i%3 > 0, Squash: site.SquashRoot, Unknown: site.UnknownRefused, Security: []site.Flavor{site.FlavorSys}}}})
	}
	return r
}

func compiled(b *testing.B, r site.Records) *site.Policy {
	p, err := site.Compile(r)
	require.NoError(b, err)
	return p
}

func BenchmarkCompileAndSwap(b *testing.B) {
	r := grown()
	var inForce atomic.Pointer[site.Policy]
	for b.Loop() {
		inForce.Store(compiled(b, r))
	}
}

func BenchmarkWho(b *testing.B) {
	p := compiled(b, grown())
	n := 0
	for b.Loop() {
		n = len(New(p, night, nil).Who(p.Folders[7], "d1/d3/d7", false))
	}
	b.ReportMetric(float64(n), "people")
}

func BenchmarkReach(b *testing.B) {
	p := compiled(b, grown())
	n, user := 0, int32(0)
	for b.Loop() {
		n = len(New(p, night, nil).Reach(user % 10_000))
		user += 37
	}
	b.ReportMetric(float64(n), "spots")
}

// The matrix with all findings, the most memory that takes, and how much slower it would be to
// ask the gates about each user on each path with rules.
func BenchmarkMatrixAndFindings(b *testing.B) {
	p := compiled(b, grown())
	var peak atomic.Uint64
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		var m runtime.MemStats
		for {
			runtime.ReadMemStats(&m)
			peak.Store(max(peak.Load(), m.HeapInuse))
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	found := 0
	started := time.Now()
	n := 0
	for b.Loop() {
		a := New(p, night, nil)
		a.Matrix()
		found = len(a.Findings())
		n++
	}
	each := time.Since(started) / time.Duration(n)
	close(stop)
	<-done
	b.ReportMetric(float64(peak.Load())/1e6, "MB-in-use")
	b.ReportMetric(float64(found), "findings")

	a := New(p, night, nil)
	started = time.Now()
	asked := 0
	for user := int32(0); user < 10_000; user += 500 {
		for _, f := range p.Folders[:20] {
			for i := range f.Rules {
				a.By(f, user, f.Rules[i].Path, false)
				asked++
			}
		}
	}
	one := time.Since(started) / time.Duration(asked)
	b.ReportMetric(float64(one)*10_000*5_000/float64(each), "times-naive")
}

func BenchmarkPreviewHighUp(b *testing.B) {
	r := grown()
	before := compiled(b, r)
	r.Folders[3].Rules[0].Entries = append(r.Folders[3].Rules[0].Entries, acl.Entry{ID: 999_999, Who: identity.GroupPrincipal(1), Level: acl.Change, Applies: acl.Everywhere})
	// And one that reaches everywhere: a group that contains others is put into another.
	r.Groups[10].Members = append(r.Groups[10].Members, identity.GroupPrincipal(501))
	after := compiled(b, r)
	n := 0
	for b.Loop() {
		x, y := New(before, night, nil), New(after, night, nil)
		c := Compare(x, y)
		n = len(c.Difference())
		c.FindingsApart()
	}
	b.ReportMetric(float64(n), "changes")
}
