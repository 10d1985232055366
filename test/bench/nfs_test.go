package bench

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/heap"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/bare"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

const ahead = 8 // requests under way

// nfsFile is a big file reached by one version: how a piece of it is asked for, and what an answer is.
type nfsFile struct {
	c     *nfsraw.Client
	read  func(at uint64)
	write func(at uint64, data []byte)
	check func(r *onc.Reader) // the answer to either
	sync  func()              // has all on disk
}

func bigFile(b *testing.B, g *gateway.Gateway, version int) nfsFile {
	c := nfsraw.Dial(b, g.NFS, 2102, 3001)
	require.NoError(b, c.C.SetDeadline(time.Now().Add(5*time.Minute)))
	f := nfsFile{c: c}
	if version == 3 {
		_, fh := c.Create3(c.Mnt("/scratch"), "big.fits")
		w := &onc.Writer{}
		f.read = func(at uint64) {
			w.B = w.B[:0]
			w.Opaque(fh)
			w.Uint64(at)
			w.Uint32(piece)
			c.Send(nfsraw.NFS, 3, 6, w.B, nil)
		}
		f.write = func(at uint64, data []byte) {
			w.B = w.B[:0]
			w.Opaque(fh)
			w.Uint64(at)
			w.Uint32(uint32(len(data)))
			w.Uint32(0)
			w.Uint32(uint32(len(data)))
			c.Send(nfsraw.NFS, 3, 7, w.B, data)
		}
		f.check = func(r *onc.Reader) { require.Zero(b, r.Uint32()) }
		f.sync = func() {
			status, _ := c.Do(nfsraw.NFS, 3, 21, func(w *onc.Writer) { w.Opaque(fh); w.Uint64(0); w.Uint32(0) })
			require.Zero(b, status)
		}
		return f
	}
	c.NewSession(b.Name())
	fh, stateid := create41(b, c, "big.fits")
	seq := make([]uint32, ahead+1)
	free := make(chan uint32, ahead) // slots, the first of which is the session's own
	for slot := range uint32(ahead) {
		free <- slot + 1
	}
	frame := func(w *onc.Writer, ops ...func(w *onc.Writer)) {
		slot := <-free
		seq[slot]++
		w.B = w.B[:0]
		s := c.SequenceOf(seq[slot], slot)
		nfsraw.Compound(1, append([]func(w *onc.Writer){s, nfsraw.Op(22, fh)}, ops...)...)(w)
	}
	w := &onc.Writer{}
	f.read = func(at uint64) {
		frame(w, nfsraw.Op(25, nfsraw.Raw(stateid), at, piece))
		c.Send(nfsraw.NFS, 4, 1, w.B, nil)
	}
	f.write = func(at uint64, data []byte) {
		frame(w, nfsraw.Op(38, nfsraw.Raw(stateid), at, 0, len(data)))
		c.Send(nfsraw.NFS, 4, 1, w.B, data)
	}
	f.check = func(r *onc.Reader) {
		status, _ := nfsraw.Results(r)
		require.Zero(b, status)
		nfsraw.Next(r)
		r.Fixed(16)
		r.Uint32()
		free <- r.Uint32()
	}
	f.sync = func() {
		status, _ := c.Session(nfsraw.Op(22, fh), nfsraw.Op(5, uint64(0), 0))
		require.Zero(b, status)
	}
	return f
}

// create41 makes and opens a file in /scratch by version 4.1.
func create41(b testing.TB, c *nfsraw.Client, name string) (fh, stateid []byte) {
	status, r := c.Session(nfsraw.Op(24), nfsraw.Op(15, "scratch"),
		nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 1, 0, 0, 0, 0, name), nfsraw.Op(10))
	require.Zero(b, status)
	nfsraw.Next(r) // PUTROOTFH
	nfsraw.Next(r) // LOOKUP
	nfsraw.Next(r) // OPEN
	stateid = append([]byte{}, r.Fixed(16)...)
	r.Fixed(20)
	r.Uint32()
	for range r.Uint32() {
		r.Uint32()
	}
	r.Uint32()
	nfsraw.Next(r) // GETFH
	return append([]byte{}, r.Opaque(128)...), stateid
}

// pump keeps requests under way until all of size is done, and gives MB/s.
func (f nfsFile) pump(b *testing.B, request func(at uint64)) float64 {
	buf := make([]byte, piece+4096)
	start := time.Now()
	for sent, got := 0, 0; got < size/piece; got++ {
		for ; sent < size/piece && sent < got+ahead; sent++ {
			request(uint64(sent) * piece)
		}
		r, err := f.c.Receive(buf)
		require.NoError(b, err)
		f.check(r)
	}
	return size / 1e6 / time.Since(start).Seconds()
}

// Sequential reading and writing over NFS, eight requests of a megabyte under way, beside the same done on
// the file itself, and beside a copy of the same file over a bare TCP connection. Writing includes having
// it all on disk.
func BenchmarkNFSSequential(b *testing.B) {
	for _, version := range []int{3, 4} {
		b.Run(map[int]string{3: "3", 4: "4.1"}[version], func(b *testing.B) {
			g := gateway.Start(b)
			g.Unlimited(b)
			f := bigFile(b, g, version)
			path := filepath.Join(g.State, "volumes/summit/scratch/big.fits")
			data := make([]byte, piece)
			for b.Loop() {
				f.pump(b, func(at uint64) { f.write(at, data) }) // so that there is something to write over
				write, storing, read, fetching := 0.0, 0.0, 0.0, 0.0
				for range 3 { // the best of each: the machine is never quiet
					start := time.Now()
					f.pump(b, func(at uint64) { f.write(at, data) })
					f.sync()
					write = max(write, size/1e6/time.Since(start).Seconds())
					storing = max(storing, bare.Store(b, bare.Plain, path, piece))
					read = max(read, f.pump(b, f.read))
					fetching = max(fetching, bare.Fetch(b, bare.Plain, path, piece))
				}
				b.ReportMetric(read, "read-MB/s")
				b.ReportMetric(write, "write-MB/s")
				b.ReportMetric(directRead(b, path), "file-read-MB/s")
				b.ReportMetric(directWrite(b, path), "file-write-MB/s")
				b.ReportMetric(fetching, "bare-read-MB/s")
				b.ReportMetric(storing, "bare-write-MB/s")
				b.ReportMetric(read/fetching, "read/bare")
				b.ReportMetric(write/storing, "write/bare")
			}
		})
	}
}

func directRead(b *testing.B, path string) float64 {
	f, err := os.Open(path)
	require.NoError(b, err)
	defer f.Close()
	buf := make([]byte, piece)
	start := time.Now()
	for off := int64(0); off < size; off += piece {
		_, err := f.ReadAt(buf, off)
		require.NoError(b, err)
	}
	return size / 1e6 / time.Since(start).Seconds()
}

func directWrite(b *testing.B, path string) float64 {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(b, err)
	defer f.Close()
	buf := make([]byte, piece)
	start := time.Now()
	for off := int64(0); off < size; off += piece {
		_, err := f.WriteAt(buf, off)
		require.NoError(b, err)
	}
	require.NoError(b, f.Sync())
	return size / 1e6 / time.Since(start).Seconds()
}

// Small files, made, looked at and removed one at a time by one client, beside the same done in the directory itself with each name put on disk, as NFS
// promises it is; and made on a disk that takes a millisecond more to have something safe, as most do that really do. All are made before any is removed: a
// file system that does not give out the number of a file again that was removed a moment ago (ext4) searches longer and longer for another.
func BenchmarkNFSSmallFiles(b *testing.B) {
	heap.Keep() // as the service has it
	const each, rounds, slowRounds = 50, 40, 10
	g := gateway.Start(b)
	g.Unlimited(b)
	dir := filepath.Join(g.State, "volumes/summit/direct")
	require.NoError(b, os.Mkdir(dir, 0o755))
	d, err := os.Open(dir)
	require.NoError(b, err)
	defer d.Close()
	direct := map[string]func(name string){"create": func(name string) {
		f, err := os.Create(filepath.Join(dir, name))
		require.NoError(b, err)
		require.NoError(b, f.Close())
		require.NoError(b, d.Sync())
	}, "stat": func(name string) {
		_, err := os.Stat(filepath.Join(dir, name))
		require.NoError(b, err)
	}, "remove": func(name string) {
		require.NoError(b, os.Remove(filepath.Join(dir, name)))
		require.NoError(b, d.Sync())
	}}
	wait := func() { _ = unix.Nanosleep(&unix.Timespec{Nsec: 1e6}, nil) }
	direct["create-at-1ms"] = func(name string) { direct["create"](name); wait() }

	named := func(version string, round, n int) string { return fmt.Sprintf("%s-%02d-%02d", version, round, n) }
	calls := map[string]map[string]*nfsraw.Prepared{}
	dial := func(version string) *nfsraw.Client {
		c := nfsraw.Dial(b, g.NFS, 2102, 3001)
		require.NoError(b, c.C.SetDeadline(time.Now().Add(5*time.Minute)))
		calls[version] = make(map[string]*nfsraw.Prepared)
		return c
	}
	c := dial("3.0")
	root := c.Mnt("/scratch")
	at := func(w *onc.Writer) { w.Opaque(root); w.String(named("3.0", 0, 0)) }
	calls["3.0"]["create"] = c.Prepare(3, 8, func(w *onc.Writer) { at(w); w.Uint32(0); nfsraw.Mode3(w, 0o644) })
	calls["3.0"]["stat"] = c.Prepare(3, 3, at)
	calls["3.0"]["remove"] = c.Prepare(3, 12, at)
	c = dial("4.1")
	c.NewSession(b.Name())
	in := func(ops ...func(*onc.Writer)) *nfsraw.Prepared {
		return c.PrepareSession(append([]func(*onc.Writer){nfsraw.Op(24), nfsraw.Op(15, "scratch")}, ops...)...)
	}
	name := named("4.1", 0, 0)
	current := nfsraw.Raw(append([]byte{0, 0, 0, 1}, make([]byte, 12)...)) // stateid
	calls["4.1"]["create"] = in(nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 1, 0, 0, 0, 0, name), nfsraw.Op(4, 0, current))
	calls["4.1"]["stat"] = in(nfsraw.Op(15, name), nfsraw.Op(9, 2, 0x18, 0x2))
	calls["4.1"]["remove"] = in(nfsraw.Op(28, name))

	said := map[*nfsraw.Prepared]string{}
	for _, what := range []string{"create", "create-at-1ms", "stat", "remove"} {
		for _, version := range []string{"3.0", "4.1"} {
			b.Run(what+"/"+version, func(b *testing.B) {
				first, many := 0, rounds
				call := calls[version][what]
				if what == "create-at-1ms" {
					first, many, call = rounds, slowRounds, calls[version]["create"]
					defer files.Disturb(func(call, _ string) error {
						if call == "sync" {
							wait()
						}
						return nil
					})()
				}
				served := func(name string) {
					call.Rename(cmp.Or(said[call], named(version, 0, 0)), name)
					said[call] = name
					require.NoError(b, call.Do())
				}
				var beside bare.Beside
				for b.Loop() {
					for round := range many { // in turn: what a disk takes differs from one second to the next
						rate := func(step func(string)) func() float64 {
							return func() float64 {
								start := time.Now()
								for n := range each {
									step(named(version, first+round, n))
								}
								return each / time.Since(start).Seconds()
							}
						}
						beside.Round(rate(direct[what]), map[string]func() float64{what: rate(served)})
					}
				}
				beside.Report(b, "direct")
			})
		}
	}
}

// GETATTR and LOOKUP, one at a time, by each version, beside a bare request and its answer of as many bytes; and four clients at once, beside four bare ones.
func BenchmarkNFSCalls(b *testing.B) {
	heap.Keep()
	const calls, clients, rounds = 1000, 4, 25
	g := gateway.Start(b)
	g.Unlimited(b)
	require.NoError(b, os.WriteFile(filepath.Join(g.State, "volumes/summit/scratch/plate.fits"), []byte("plate"), 0o644))
	dial := func() *nfsraw.Client {
		c := nfsraw.Dial(b, g.NFS, 2102, 3001)
		require.NoError(b, c.C.SetDeadline(time.Now().Add(5*time.Minute)))
		return c
	}
	rate := func(each func(client int)) float64 {
		start := time.Now()
		var group sync.WaitGroup
		for client := range clients {
			group.Go(func() { each(client) })
		}
		group.Wait()
		return clients * calls / time.Since(start).Seconds()
	}
	ways := map[string]func() (getattr, lookup *nfsraw.Prepared){
		"3": func() (*nfsraw.Prepared, *nfsraw.Prepared) {
			c := dial()
			root := c.Mnt("/scratch")
			_, file := c.Lookup3(root, "plate.fits")
			return c.Prepare(3, 1, func(w *onc.Writer) { w.Opaque(file) }), c.Prepare(3, 3, func(w *onc.Writer) { w.Opaque(root); w.String("plate.fits") })
		},
		"4.1": func() (*nfsraw.Prepared, *nfsraw.Prepared) {
			c := dial()
			c.NewSession(fmt.Sprint(b.Name(), time.Now().UnixNano()))
			handle := func(ops ...func(*onc.Writer)) []byte {
				status, r := c.Session(append(ops, nfsraw.Op(10))...)
				require.Zero(b, status)
				for range len(ops) {
					nfsraw.Next(r)
				}
				nfsraw.Next(r)
				return append([]byte{}, r.Opaque(128)...)
			}
			root := handle(nfsraw.Op(24), nfsraw.Op(15, "scratch"))
			file := handle(nfsraw.Op(24), nfsraw.Op(15, "scratch"), nfsraw.Op(15, "plate.fits"))
			attributes := nfsraw.Op(9, 2, 0x18, 0x2)
			return c.PrepareSession(nfsraw.Op(22, file), attributes), c.PrepareSession(nfsraw.Op(22, root), nfsraw.Op(15, "plate.fits"), nfsraw.Op(10), attributes)
		},
	}
	for _, version := range []string{"3", "4.1"} {
		b.Run(version, func(b *testing.B) {
			getattr, lookup := ways[version]()
			each := []*nfsraw.Prepared{getattr}
			for range clients - 1 {
				getattr, _ := ways[version]()
				each = append(each, getattr)
			}
			all := func(p *nfsraw.Prepared) {
				for range calls {
					require.NoError(b, p.Do())
				}
			}
			one := func(p *nfsraw.Prepared) func() float64 {
				return func() float64 {
					start := time.Now()
					all(p)
					return calls / time.Since(start).Seconds()
				}
			}
			request, answer := lookup.Sizes()
			trips := func() float64 { return bare.Trips(b, calls, request, answer) }
			var alone, many bare.Beside
			for b.Loop() {
				for range rounds {
					alone.Round(trips, map[string]func() float64{"getattr": one(getattr), "lookup": one(lookup)})
					many.Round(func() float64 { return rate(func(int) { trips() }) },
						map[string]func() float64{"getattr-of-four": func() float64 { return rate(func(i int) { all(each[i]) }) }})
				}
			}
			many.Report(b, "four-bare")
			alone.Report(b, "bare")
		})
	}
}
