// Package scrape gives the numbers of the service out as Prometheus takes them (the OpenMetrics text format), by its naming rules.
package scrape

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/meter"
)

// Source is where the numbers come from.
type Source struct {
	Meter *meter.Meter
	Doors live.Doors
	// FolderName is the name of a folder by the number of its record; "" for one that is gone.
	FolderName func(number string) string
	// Jobs is how many go on; nil where that is not known.
	Jobs func() int
	// Databases are how long writing into each took; nil where that is not known.
	Databases func() map[string]meter.Times
	// Queues are how much waits to be written down or sent; nil where that is not known.
	Queues  func() map[string]int
	Version string
}

// Handler answers a scrape. Who may ask is decided before it is asked.
func Handler(s Source) http.Handler {
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), &collector{s})
	// One scrape is answered at a time, and another waits: what it takes does not grow with who asks.
	return promhttp.HandlerFor(r, promhttp.HandlerOpts{EnableOpenMetrics: true, MaxRequestsInFlight: 2})
}

// collector asks the meter when it is scraped, so that nothing is kept twice.
type collector struct{ Source }

// family are the descriptions of what is counted by one kind of thing.
type family struct {
	by                            meter.By
	requests, read, written, took *prometheus.Desc
	byKind                        bool // requests are told apart by kind, and timed
}

func familyOf(by meter.By, label string, byKind bool) family {
	labels := []string{label, "outcome"}
	if byKind {
		labels = []string{label, "kind", "outcome"}
	}
	name := func(what string) string { return prometheus.BuildFQName("amber", by.String(), what) }
	f := family{by: by, byKind: byKind,
		requests: prometheus.NewDesc(name("requests_total"), "Requests that were answered.", labels, nil),
		read:     prometheus.NewDesc(name("read_bytes_total"), "Bytes of files that were read.", []string{label}, nil),
		written:  prometheus.NewDesc(name("written_bytes_total"), "Bytes of files that were written.", []string{label}, nil),
	}
	if byKind {
		f.took = prometheus.NewDesc(name("request_duration_seconds"), "How long requests took, from when they were whole to their answer.", []string{label}, nil)
	}
	return f
}

var (
	families = []family{
		familyOf(meter.ByProtocol, "version", true), familyOf(meter.ByFolder, "folder", true), familyOf(meter.ByShare, "share", true), familyOf(meter.ByExport, "path", true),
		familyOf(meter.ByPerson, "user", false), familyOf(meter.ByHost, "address", false),
	}
	sessions = prometheus.NewDesc("amber_sessions", "Clients that are connected.", []string{"via"}, nil)
	opens    = prometheus.NewDesc("amber_opens", "Files, directories and pipes that clients hold open.", []string{"via"}, nil)
	locks    = prometheus.NewDesc("amber_locks", "Ranges of bytes that clients have locked.", []string{"via"}, nil)
	jobs     = prometheus.NewDesc("amber_jobs_running", "Jobs that go on.", nil, nil)
	gates    = prometheus.NewDesc("amber_gate_refusals_total", "What was refused at files and directories, by the gate that did.", []string{"gate"}, nil)
	errors   = prometheus.NewDesc("amber_errors_total", "Requests that were answered with an error, by its number: NTSTATUS over SMB, nfsstat3 or nfsstat4 over NFS.", []string{"protocol", "status"}, nil)
	found    = prometheus.NewDesc("amber_cache_looks_total", "How often something was looked for where it is kept, and whether it was there.", []string{"cache", "result"}, nil)
	queued   = prometheus.NewDesc("amber_queue_length", "What waits to be written down or sent.", []string{"queue"}, nil)
	writes   = prometheus.NewDesc("amber_database_write_seconds", "How long transactions that write took; records holds the journal.", []string{"database"}, nil)
	working  = prometheus.NewDesc("amber_requests_working", "Requests that are being answered, or wait for it.", []string{"via"}, nil)

	connections = prometheus.NewDesc("amber_connections", "Connections of clients.", []string{"via"}, nil)

	build = prometheus.NewDesc("amber_build_info", "The version that runs.", []string{"version"}, nil)
)

// Describe is prometheus.Collector's.
func (c *collector) Describe(to chan<- *prometheus.Desc) { prometheus.DescribeByCollect(c, to) }

// Collect is prometheus.Collector's.
func (c *collector) Collect(to chan<- prometheus.Metric) {
	counter := func(d *prometheus.Desc, n uint64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(n), labels...)
	}
	gauge := func(d *prometheus.Desc, n int, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(n), labels...)
	}
	for _, f := range families {
		c.Meter.Each(f.by, func(name string, is meter.Count) {
			if f.by == meter.ByFolder {
				if name = c.FolderName(name); name == "" {
					return
				}
			}
			name = valid(name)
			for o := range meter.Outcomes {
				all := uint64(0)
				for k := range meter.Kinds {
					n := is.Operations[k][o]
					if all += n; f.byKind && n > 0 {
						counter(f.requests, n, name, k.String(), o.String())
					}
				}
				if !f.byKind && all > 0 {
					counter(f.requests, all, name, o.String())
				}
			}
			counter(f.read, is.Read, name)
			counter(f.written, is.Written, name)
			if f.took == nil {
				return
			}
			buckets, all := cumulated(is.Times)
			to <- prometheus.MustNewConstHistogram(f.took, all, is.Sum.Seconds(), buckets, name)
		})
	}
	c.Meter.EachStatus(func(s meter.Status, n uint64) {
		number := fmt.Sprint(s.Number)
		if s.Protocol == "SMB" {
			number = fmt.Sprintf("0x%08X", s.Number)
		}
		counter(errors, n, s.Protocol, number)
	})
	for name, load := range c.Doors.Loads() {
		gauge(connections, load.Connections, name)
		gauge(working, load.Working, name)
		for _, cache := range load.Caches {
			counter(found, cache.Hits, cache.Name, "found")
			counter(found, cache.Misses, cache.Name, "not found")
		}
	}
	if c.Databases != nil {
		for name, times := range c.Databases() {
			buckets, all := cumulated(times)
			to <- prometheus.MustNewConstHistogram(writes, all, times.Sum.Seconds(), buckets, name)
		}
	}
	if c.Queues != nil {
		for name, n := range c.Queues() {
			gauge(queued, n, name)
		}
	}
	c.Meter.Each(meter.ByGate, func(gate string, is meter.Count) { counter(gates, is.All(), gate) })
	held := make(map[string][3]int)
	for _, s := range c.Doors.Sessions() {
		n := held[s.Via.String()]
		n[0]++
		n[1] += s.Opens
		n[2] += s.Locks
		held[s.Via.String()] = n
	}
	for _, via := range []string{"SMB", "NFS"} {
		gauge(sessions, held[via][0], via)
		gauge(opens, held[via][1], via)
		gauge(locks, held[via][2], via)
	}
	if c.Jobs != nil {
		gauge(jobs, c.Jobs())
	}
	gauge(build, 1, c.Version)
}

// cumulated is how many took no longer than each bound, in seconds, and how many there were.
func cumulated(t meter.Times) (buckets map[float64]uint64, all uint64) {
	buckets = make(map[float64]uint64, meter.Buckets)
	for i, n := range t.Buckets {
		all += n
		if bound, ok := meter.Bound(i); ok {
			buckets[bound.Seconds()] = all
		}
	}
	return buckets, all
}

// valid is a name as a label may have it: names of folders and users are text, but what clients say need not be.
func valid(name string) string { return strings.ToValidUTF8(name, "\uFFFD") }
