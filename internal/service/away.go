package service

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// volumes is what is known of where volumes are: each is looked at every few seconds, by a goroutine of its own, so that one
// whose disk does not answer is known for that and holds up nobody.
type volumes struct {
	mu     sync.Mutex
	away   map[int64]AwayVolume
	asking map[int64]time.Time // since when a look has been under way
	heldUp map[int64]bool      // folders in which a rename is to be settled before they are served
}

// AwayVolume is a volume that is not where it should be.
type AwayVolume struct {
	Why   string
	Since time.Time
}

const (
	volumesEvery = 2 * time.Second
	// A look takes no time. One that takes so long is at a disk that does not answer.
	volumeAnswers = 5 * time.Second
)

func newVolumes() *volumes {
	return &volumes{away: make(map[int64]AwayVolume), asking: make(map[int64]time.Time), heldUp: make(map[int64]bool)}
}

// VolumeAway says why a volume is away, and since when; false where it is there.
func (s *Service) VolumeAway(id int64) (AwayVolume, bool) {
	s.volumes.mu.Lock()
	defer s.volumes.mu.Unlock()
	if since, ok := s.volumes.asking[id]; ok && time.Since(since) > volumeAnswers {
		return AwayVolume{"its disk does not answer", since}, true
	}
	a, ok := s.volumes.away[id]
	return a, ok
}

// Away says why a volume is not where it should be; "" where it is there.
func (s *Service) Away(volume int64) string {
	away, _ := s.VolumeAway(volume)
	return away.Why
}

func (s *Service) runVolumes() {
	for {
		select {
		case <-s.background.ctx.Done():
			return
		case <-time.After(volumesEvery):
			s.lookAtVolumes()
		}
	}
}

// lookAtVolumes begins a look at each volume that none is under way at, and gives what ends when all have ended.
func (s *Service) lookAtVolumes() *sync.WaitGroup {
	var looks sync.WaitGroup
	w := s.volumes
	for _, v := range s.Policy().Volumes {
		w.mu.Lock()
		_, busy := w.asking[v.ID]
		if !busy {
			w.asking[v.ID] = time.Now()
		}
		w.mu.Unlock()
		if busy {
			continue
		}
		contain.Go(&looks, "looking at volume "+v.Name, func() {
			defer func() {
				w.mu.Lock()
				delete(w.asking, v.ID)
				w.mu.Unlock()
			}()
			s.lookAtVolume(v)
		})
	}
	return &looks
}

// awaitLook waits for a look to end, but not for a disk that does not answer.
func (s *Service) awaitLook(looks *sync.WaitGroup) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		looks.Wait()
	}()
	select {
	case <-done:
	case <-time.After(volumeAnswers):
	}
}

func (s *Service) lookAtVolume(v site.Volume) {
	err := files.IsThere(v.Location())
	if err != nil {
		why := err.Error()
		if away := (*files.Away)(nil); errors.As(err, &away) {
			why = away.Why
		}
		s.volumes.mu.Lock()
		was, already := s.volumes.away[v.ID]
		if !already {
			was.Since = time.Now()
		}
		s.volumes.away[v.ID] = AwayVolume{why, was.Since}
		s.volumes.mu.Unlock()
		if !already {
			slog.Error("a volume is away: what is on it is answered with an error, and nothing is written there", "volume", v.Name, "path", v.Path, "why", why)
		}
		return
	}
	if v.Mark == "" {
		s.markOld(v)
	}
	s.settleOn(v)
	s.volumes.mu.Lock()
	was, away := s.volumes.away[v.ID]
	delete(s.volumes.away, v.ID)
	s.volumes.mu.Unlock()
	if away {
		slog.Info("a volume is back", "volume", v.Name, "path", v.Path, "away", time.Since(was.Since).Round(time.Second))
		if err := s.settleEffects(context.WithoutCancel(s.background.ctx)); err != nil {
			slog.Error("what changes have to do on disk cannot be looked up", "error", err)
		}
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID {
				s.counts.Retry(f.ID)
			}
		}
	}
}

// markOld marks a volume that was registered before volumes were marked, if what is there is the volume for all that can be told:
// one of its folders is there, or it has none.
func (s *Service) markOld(v site.Volume) {
	folders, there := 0, 0
	for _, f := range s.Policy().Folders {
		if f.VolumeID == v.ID {
			folders++
			if found, err := files.Find(f.At, ""); err == nil && found.Exists {
				there++
			}
		}
	}
	if folders > 0 && there == 0 {
		return
	}
	mark, err := files.VolumeMark(v.Path)
	if err != nil || s.closing() {
		return
	}
	if mark == "" { // else the records are older than the mark, as from a backup
		mark = newMark()
	}
	ctx := context.WithoutCancel(s.background.ctx)
	err = s.change(ctx, Itself, "mark volume", v.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.Volume](d, v.ID)
		if !ok || is.Mark != "" {
			return nil
		}
		is.Mark = mark
		site.Put(d, is)
		s.markVolume(d, v.Path, mark)
		return nil
	})
	if err != nil {
		slog.Warn("a volume cannot be marked: it would not be known for missing", "volume", v.Name, "path", v.Path, "error", err)
	}
}

// settleOn settles the renames that were under way on a volume when the service was ended.
func (s *Service) settleOn(v site.Volume) {
	held := false
	s.volumes.mu.Lock()
	for id := range s.volumes.heldUp {
		if f := s.Policy().Folder(id); f == nil || f.VolumeID == v.ID {
			held = true
		}
	}
	s.volumes.mu.Unlock()
	if !held {
		return
	}
	if err := s.settleMoves(context.WithoutCancel(s.background.ctx), false); err != nil {
		slog.Error("a rename that was under way cannot be settled yet", "volume", v.Name, "error", err)
	}
}

// HeldUp says whether a folder is not to be served yet: a rename in it was under way when the service was ended, and whether it was done cannot be
// seen as long as its volume is away.
func (s *Service) HeldUp(folder int64) bool {
	s.volumes.mu.Lock()
	defer s.volumes.mu.Unlock()
	return s.volumes.heldUp[folder]
}

// awayVolumes are those with folders on them, for the audit.
func (s *Service) awayVolumes() (out []audit.AwayVolume) {
	for _, v := range s.Policy().Volumes {
		a, ok := s.VolumeAway(v.ID)
		if !ok {
			continue
		}
		of := audit.AwayVolume{Volume: v.Name, Path: v.Path, Why: a.Why}
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID {
				of.Folders = append(of.Folders, f.Name)
			}
		}
		out = append(out, of)
	}
	return out
}
