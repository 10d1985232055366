package service

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
)

// A job that looks at every file before it can say anything keeps what it has looked at, so that it goes on where it was: in a file of its own
// in the state directory, of which the part that counts is as long as its mark says. Each part is a member of gzip (RFC 1952), in which each line is an object.

// seenObject is one that was looked at.
type seenObject struct {
	Path    string `json:"p"`
	UID     uint32 `json:"u"`
	GID     uint32 `json:"g"`
	Mode    uint32 `json:"m"`
	Dir     bool   `json:"d,omitempty"`
	ACL     []byte `json:"a,omitempty"`
	Default []byte `json:"f,omitempty"`
}

func (o *seenObject) attributes() (*posix.Attributes, error) {
	a := &posix.Attributes{UID: o.UID, GID: o.GID, Mode: o.Mode, Dir: o.Dir}
	for _, list := range []struct {
		raw []byte
		to  *posix.ACL
	}{{o.ACL, &a.ACL}, {o.Default, &a.Default}} {
		if list.raw != nil {
			var err error
			if *list.to, err = posix.ParseACL(list.raw); err != nil {
				return nil, err
			}
		}
	}
	return a, nil
}

// looking is a look at all of a folder, of which what was looked at is kept.
type looking struct {
	name string // of the file
	size int64  // of what counts of it
	last string // the last path that was looked at
	part bytes.Buffer
	line *json.Encoder
	to   *gzip.Writer
}

// lookMark is where such a job is.
type lookMark struct {
	Size int64  `json:"size"`
	Last string `json:"last"`
}

// jobsDirectory is where in the state directory jobs keep what they need to go on.
const jobsDirectory = "jobs"

// lookAtAll visits every file and directory of a folder for a job, those first that it has looked at before it was taken up again.
func (s *Service) lookAtAll(ctx context.Context, j *job.Job, f *site.PublishedFolder, visit func(files.Found) error) error {
	l := &looking{name: filepath.Join(s.state, jobsDirectory, fmt.Sprintf("%d.gz", j.ID()))}
	l.begin()
	j.SetTotal(s.countedBelow(f.ID, ""))
	facts := files.FactsOf(s.Policy(), f)
	was, err := l.again(j.Was(), func(o *seenObject) error {
		a, err := o.attributes()
		if err != nil {
			return err
		}
		d := s.Policy().Directory
		return visit(files.Found{Path: o.Path, Unix: a, Owned: acl.Ownership{User: d.UserIndexByUID(a.UID), Group: d.GroupIndexByGID(a.GID)}})
	})
	if err != nil {
		return err
	}
	j.SetDone(was)
	look := func(o files.Found) error {
		if err := l.keep(o); err != nil {
			return err
		}
		j.Step()
		if err := visit(o); err != nil {
			return err
		}
		return j.At(ctx, l.mark)
	}
	if was == 0 {
		err = facts.Walk(ctx, look)
	} else {
		err = facts.WalkOn(ctx, "", l.last, look)
	}
	if err == nil || s.closing() {
		err = errors.Join(err, j.Note(context.WithoutCancel(ctx), l.mark))
	}
	return err
}

// forgetLook removes what a job kept, once it needs it no more.
func (s *Service) forgetLook(j *job.Job) {
	_ = os.Remove(filepath.Join(s.state, jobsDirectory, fmt.Sprintf("%d.gz", j.ID())))
}

func (l *looking) begin() {
	l.part.Reset()
	l.to = gzip.NewWriter(&l.part)
	l.line = json.NewEncoder(l.to)
}

func (l *looking) keep(o files.Found) error {
	l.last = o.Path
	is := seenObject{Path: o.Path, UID: o.Unix.UID, GID: o.Unix.GID, Mode: o.Unix.Mode, Dir: o.Unix.Dir}
	if o.Unix.ACL != nil {
		is.ACL = o.Unix.ACL.Bytes()
	}
	if o.Unix.Default != nil {
		is.Default = o.Unix.Default.Bytes()
	}
	return l.line.Encode(is)
}

// mark writes what was looked at since the last mark, and says where that is.
func (l *looking) mark() (string, error) {
	if err := l.to.Close(); err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(l.name), 0o700); err != nil {
		return "", err
	}
	f, err := os.OpenFile(l.name, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if _, err := f.WriteAt(l.part.Bytes(), l.size); err != nil {
		return "", err
	}
	if err := f.Sync(); err != nil {
		return "", err
	}
	l.size += int64(l.part.Len())
	l.begin()
	raw, err := json.Marshal(lookMark{l.size, l.last})
	return string(raw), err
}

// longestSeen is how long a line may be: a path and two lists.
const longestSeen = 1 << 20

// again visits what was kept up to a mark, and gives how many objects that were. Where it cannot be read, there were none, and the look begins anew.
func (l *looking) again(mark string, visit func(*seenObject) error) (n int64, err error) {
	var is lookMark
	if mark == "" || json.Unmarshal([]byte(mark), &is) != nil {
		return 0, nil
	}
	all, err := l.read(is)
	if err != nil {
		return 0, nil
	}
	for i := range all {
		if err := visit(&all[i]); err != nil {
			return 0, err
		}
	}
	l.size, l.last = is.Size, is.Last
	return int64(len(all)), nil
}

func (l *looking) read(is lookMark) (all []seenObject, err error) {
	f, err := os.Open(l.name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	from, err := gzip.NewReader(bufio.NewReader(io.LimitReader(f, is.Size)))
	if err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, longestSeen)
	for lines.Scan() {
		var o seenObject
		if err := json.Unmarshal(lines.Bytes(), &o); err != nil {
			return nil, err
		}
		all = append(all, o)
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if len(all) == 0 || all[len(all)-1].Path != is.Last {
		return nil, io.ErrUnexpectedEOF
	}
	return all, nil
}
