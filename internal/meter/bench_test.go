package meter

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

// What counting takes, against the least that a request can be: a megabyte of a file that is in memory already, read once, as clients that copy ask for it.
func BenchmarkCountingAgainstRead(b *testing.B) {
	path := filepath.Join(b.TempDir(), "file")
	block := make([]byte, 1<<20)
	if err := os.WriteFile(path, block, 0o600); err != nil {
		b.Fatal(err)
	}
	f, err := os.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	var m Meter
	of := Of{Protocol: m.Tally(ByProtocol, "SMB 3.1.1"), Through: m.Tally(ByShare, "a"), Folder: m.Tally(ByFolder, "1"), Person: m.Tally(ByPerson, "b"), Host: m.Tally(ByHost, "c")}
	var counting, reading time.Duration
	for b.Loop() {
		began := time.Now()
		if _, err := f.ReadAt(block, 0); err != nil {
			b.Fatal(err)
		}
		read := time.Now()
		for range 16 {
			at := time.Now() // as the servers do, for each request
			of.Count(Did{Kind: Read, Read: len(block), Began: at, Took: time.Since(at)})
		}
		counting += time.Since(read) / 16
		reading += read.Sub(began)
	}
	b.ReportMetric(100*float64(counting)/float64(reading), "%-of-a-read")
	b.ReportMetric(float64(counting.Nanoseconds())/float64(b.N), "ns/count")
}
