package process

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/store"
)

// What the service manager is told (sd_notify(3)).
const stopping = daemon.SdNotifyStopping

// notify tells the service manager, where there is one.
func notify(state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		slog.Debug("the service manager was not told", "state", state, "error", err)
	}
}

// tellManager says that the service is ready and, as often as it is asked for, that it lives: as long as its records can be read.
func (p *Process) tellManager(ctx context.Context) (stop func()) {
	notify(daemon.SdNotifyReady + "\nSTATUS=" + p.manages())
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every <= 0 {
		return func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		tick := time.NewTicker(every / 3)
		defer tick.Stop()
		for {
			if p.lives(ctx) {
				notify(daemon.SdNotifyWatchdog)
			}
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
		}
	}()
	return cancel
}

func (p *Process) manages() string {
	console, smb, nfs := p.Addresses()
	return fmt.Sprintf("console %s, SMB %s, NFS %s", console, smb, nfs)
}

// lives says whether the records answer: a deadlock keeps them from it, a full disk does not.
func (p *Process) lives(ctx context.Context) bool {
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = p.Service.Journal(ctx, store.Match{Most: 1}) // an error is an answer as well
	}()
	select {
	case <-done:
		return true
	case <-ctx.Done():
		return false
	case <-time.After(10 * time.Second):
		return false
	}
}

// readAgain reads the settings and the certificate again, and takes up what can be while it runs.
func (p *Process) readAgain() {
	var now unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_MONOTONIC, &now)
	notify(fmt.Sprintf("%s\nMONOTONIC_USEC=%d", daemon.SdNotifyReloading, now.Nano()/1000))
	defer notify(daemon.SdNotifyReady)
	if _, err := p.Reload(); err != nil {
		p.log.Error("what the settings say now is not taken up", "why", err)
	}
}

// Reload reads the settings again and takes up those that can be while it runs; the names of the others that say something else now are
// given back. Nothing is taken up where one is wrong.
func (p *Process) Reload() (waiting []string, err error) {
	if p.opts.Again == nil {
		return nil, nil
	}
	next, err := p.opts.Again()
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	next.State = p.cfg.State
	if err := p.certs.Use(certificateFiles(next)); err != nil {
		return nil, asFault(next, err)
	}
	if err := p.log.SetLevel(next.LogLevel); err != nil {
		return nil, err
	}
	p.levelSet = ""
	was := p.cfg.Values()
	var taken []string
	for i, v := range next.Values() {
		switch {
		case v.Value == was[i].Value:
		case v.Live:
			taken = append(taken, v.Name)
		default:
			waiting = append(waiting, v.Name)
		}
	}
	p.cfg = p.cfg.With(next)
	p.log.Info("the settings have been read again", "taken up", strings.Join(taken, ", "), "after the next start", strings.Join(waiting, ", "))
	return waiting, nil
}
