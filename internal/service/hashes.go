package service

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/store"
)

// The hash of each row of the journal follows from all rows before. Kept somewhere else, the last one shows also that the end has been cut
// off, or that all of it has been written anew.

// hashes sends them on.
type hashes struct {
	file string
	log  *url.URL // syslog (UDP, RFC 5426), syslog+tcp (RFC 6587)

	mu      sync.Mutex
	sent    int64
	problem string // why the last try failed; "" where it did not
}

const (
	hashesEvery = time.Second
	hashesTime  = 5 * time.Second
)

// WithHashes has the hash of each row of the journal be appended to a file, or sent as a message of RFC 5424 to syslog://HOST:PORT, or
// syslog+tcp://HOST:PORT; "" for nowhere.
func WithHashes(to string) Option {
	return func(s *Service) {
		switch u, err := url.Parse(to); {
		case to == "":
		case err == nil && (u.Scheme == "syslog" || u.Scheme == "syslog+tcp"):
			s.hashes = &hashes{log: u}
		default:
			s.hashes = &hashes{file: to}
		}
	}
}

// openHashes looks where they are to go.
func (s *Service) openHashes(ctx context.Context) error {
	h := s.hashes
	if h == nil {
		return nil
	}
	last, err := s.store.Until(ctx, time.Now().Add(24*time.Hour))
	if err != nil {
		return err
	}
	if h.log != nil {
		if h.log.Port() == "" {
			return fmt.Errorf("%s names no port, such as syslog://logs.larkfell.example:514", h.log)
		}
		h.sent = max(last-1, 0) // the last is sent again, so that it is known where this service began
		return nil
	}
	if h.file, err = filepath.Abs(h.file); err != nil {
		return err
	}
	f, err := os.OpenFile(h.file, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("hashes of the journal cannot be written: %w", err)
	}
	defer f.Close()
	row, hash, err := lastHash(f)
	if err != nil {
		return fmt.Errorf("%s: %w", h.file, err)
	}
	h.sent = row
	if row == 0 {
		return nil
	}
	kept, there, err := s.store.Row(ctx, row)
	if err != nil {
		return err
	}
	if !there || hex.EncodeToString(kept.Hash) != hash {
		h.problem = fmt.Sprintf("row %d is not what %s says that it was: the journal has been cut off, or written anew", row, h.file)
		slog.Error("the journal is not what it was", "problem", h.problem)
	}
	return nil
}

// lastHash reads the last line of a file of hashes.
func lastHash(f *os.File) (row int64, hash string, err error) {
	const most = 256
	end, err := f.Seek(0, io.SeekEnd)
	if err != nil || end == 0 {
		return 0, "", err
	}
	buf := make([]byte, min(end, most))
	if _, err := f.ReadAt(buf, end-int64(len(buf))); err != nil {
		return 0, "", err
	}
	lines := strings.Split(strings.TrimSpace(string(buf)), "\n")
	words := strings.Fields(lines[len(lines)-1])
	if len(words) < 2 {
		return 0, "", errors.New("it holds no hashes")
	}
	if row, err = strconv.ParseInt(words[0], 10, 64); err != nil {
		return 0, "", errors.New("its last line does not begin with the number of a row")
	}
	return row, words[1], nil
}

func (s *Service) runHashes() {
	for {
		contain.Run("sending hashes of the journal", func() { s.sendHashes(context.WithoutCancel(s.background.ctx)) })
		select {
		case <-s.background.ctx.Done():
			s.sendHashes(context.WithoutCancel(s.background.ctx))
			return
		case <-time.After(hashesEvery):
		}
	}
}

// sendHashes sends those that have not been. What cannot be sent is tried again.
func (s *Service) sendHashes(ctx context.Context) {
	h := s.hashes
	h.mu.Lock()
	defer h.mu.Unlock()
	rows, err := s.store.Journal(ctx, store.Match{After: h.sent, Most: 1000})
	if err != nil || len(rows) == 0 {
		return
	}
	if h.file != "" {
		err = h.write(rows)
	} else {
		err = h.send(rows)
	}
	if err == nil {
		h.sent = rows[len(rows)-1].Seq
		return
	}
	if h.problem == "" {
		slog.Error("hashes of the journal cannot be sent", "error", err)
	}
	h.problem = "they cannot be sent: " + store.Why(err)
}

func (h *hashes) write(rows []store.JournalRow) error {
	f, err := os.OpenFile(h.file, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	var b strings.Builder
	for _, r := range rows {
		fmt.Fprintf(&b, "%d %x %s\n", r.Seq, r.Hash, r.At.UTC().Format(time.RFC3339Nano))
	}
	_, err = f.WriteString(b.String())
	return errors.Join(err, f.Sync(), f.Close())
}

func (h *hashes) send(rows []store.JournalRow) error {
	network := "udp"
	if h.log.Scheme == "syslog+tcp" {
		network = "tcp"
	}
	c, err := net.DialTimeout(network, h.log.Host, hashesTime)
	if err != nil {
		return err
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(hashesTime))
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	for _, r := range rows {
		// RFC 5424 section 6: facility 13, log audit; severity 6. 32473 is the number for examples, RFC 5612.
		message := fmt.Sprintf(`<110>1 %s %s amber-gatekeeper %d journal [journal@32473 row="%d" hash="%x"]`, r.At.UTC().Format("2006-01-02T15:04:05.000000Z"), host, os.Getpid(), r.Seq, r.Hash)
		if network == "tcp" {
			message = strconv.Itoa(len(message)) + " " + message
		}
		if _, err := io.WriteString(c, message); err != nil {
			return err
		}
	}
	return nil
}

// HashesProblem says why the hashes of the journal are not where they should be; "" where they are.
func (s *Service) HashesProblem() string {
	if s.hashes == nil {
		return ""
	}
	s.hashes.mu.Lock()
	defer s.hashes.mu.Unlock()
	return s.hashes.problem
}
