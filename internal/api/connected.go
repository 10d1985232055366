package api

import (
	"context"
	"math"
	"net/http"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
)

// ConnectedQuery are the parameters of the lists of what is connected and open.
type ConnectedQuery struct {
	Who   string `query:"who" maxLength:"64" doc:"Of this user, or of those who come with this number."`
	From  string `query:"from" maxLength:"255" doc:"From this host, by address, network or name."`
	Via   string `query:"via" enum:"smb,nfs"`
	On    string `query:"on" maxLength:"4096" doc:"A folder, or a path in it."`
	Limit int    `query:"limit" minimum:"1" maximum:"10000" default:"1000" doc:"The latest of them."`
}

func (q *ConnectedQuery) query() service.LiveQuery {
	out := service.LiveQuery{Who: q.Who, From: q.From, On: q.On}
	switch q.Via {
	case "smb":
		out.Via = site.SMB
	case "nfs":
		out.Via = site.NFS
	}
	return out
}

// Sessions are those that match.
type Sessions struct {
	Total    int       `json:"total" doc:"How many match."`
	Sessions []Session `json:"sessions" doc:"Those that began last at the end."`
}

// Session is a client that is connected.
type Session struct {
	ID         string      `json:"id"`
	Via        string      `json:"via" enum:"smb,nfs"`
	Version    string      `json:"version" doc:"Of the protocol, such as 3.1.1 or 4.1."`
	Who        []Connected `json:"who" doc:"Over SMB who signed in; over NFS everybody who came by it lately."`
	Address    string      `json:"address"`
	Host       string      `json:"host,omitempty" doc:"What the address is called, where a name leads back to it."`
	Guest      bool        `json:"guest,omitempty" doc:"Over SMB: they came without an account."`
	Signing    string      `json:"signing,omitempty" doc:"With which algorithm each message is signed; left out where none is."`
	Sealing    string      `json:"sealing,omitempty" doc:"With which cipher its messages are encrypted, once some were."`
	Since      time.Time   `json:"since"`
	Last       time.Time   `json:"last" doc:"When something was last asked for."`
	Idle       int64       `json:"idle" doc:"Seconds since then."`
	Read       uint64      `json:"read" doc:"Bytes of files."`
	Written    uint64      `json:"written" doc:"Bytes of files."`
	Operations uint64      `json:"operations" doc:"Requests, so far."`
	Opens      int         `json:"opens" doc:"Files, directories and pipes that are open; over NFS version 3 those with locks."`
	Locks      int         `json:"locks"`
	Through    []string    `json:"through" doc:"Shares, or exports."`
}

// Connected is on whose behalf a client acts.
type Connected struct {
	User string  `json:"user,omitempty" doc:"Left out for somebody whom the records do not have."`
	UID  *uint32 `json:"uid,omitempty" doc:"The number that came, over NFS."`
}

// Opens are those that match.
type Opens struct {
	Total int    `json:"total" doc:"How many match."`
	Opens []Open `json:"opens" doc:"What was opened last at the end."`
}

// Open is what a client holds open.
type Open struct {
	ID        string     `json:"id"`
	Session   string     `json:"session,omitempty" doc:"Left out over NFS version 3, where a host has locks whichever connection they came by."`
	Via       string     `json:"via" enum:"smb,nfs"`
	Who       Connected  `json:"who"`
	Address   string     `json:"address"`
	Host      string     `json:"host,omitempty"`
	Path      string     `json:"path" doc:"Folder and path; the name of a pipe."`
	Kind      string     `json:"kind" enum:"file,directory,pipe"`
	Does      []string   `json:"does" enum:"read,write,delete,control" doc:"What it was opened for; nothing for who only looks at it."`
	Rights    []string   `json:"rights" doc:"The same, exactly."`
	Keeps     []string   `json:"keeps" enum:"read,write,delete" doc:"What others may not do meanwhile."`
	Locks     []OpenLock `json:"locks"`
	Since     time.Time  `json:"since"`
	DeletedAt bool       `json:"deletedWhenClosed,omitempty" doc:"It goes when nobody has it open any more."`
	Delegated bool       `json:"delegated,omitempty" doc:"Over NFS version 4.1: the client opens, reads and closes it without asking, until somebody is about to alter it and the client is asked to give that back. To close it takes that away."`
}

// OpenLock is a locked range of bytes.
type OpenLock struct {
	Offset    uint64  `json:"offset"`
	Length    *uint64 `json:"length,omitempty" doc:"In bytes; left out where it is to the end, whatever comes there."`
	Exclusive bool    `json:"exclusive"`
}

func connectedOf(k service.Known) Connected { return Connected{k.Name, k.UID} }

// latest are the last so many of a list.
func latest[T any](list []T, most int) []T { return list[max(0, len(list)-most):] }

func sessionOf(one service.LiveSession, now time.Time) Session {
	out := Session{ID: one.ID, Via: strings.ToLower(one.Via.String()), Version: one.Version, Who: []Connected{}, Address: one.Address, Host: one.Host, Guest: one.Guest, Signing: one.Signing, Sealing: one.Sealing,
		Since: one.Since.UTC(), Last: one.Last.UTC(), Read: one.Read, Written: one.Written, Operations: one.Operations, Opens: one.Opens, Locks: one.Locks, Through: orNone(one.Through)}
	if one.Last.IsZero() {
		out.Last = out.Since
	}
	out.Idle = int64(max(now.Sub(out.Last), 0).Seconds())
	for _, k := range one.Known {
		out.Who = append(out.Who, connectedOf(k))
	}
	return out
}

func openOf(one service.LiveOpen) Open {
	out := Open{ID: one.ID, Session: one.Session, Via: strings.ToLower(one.Via.String()), Who: connectedOf(one.Known), Address: one.Address, Host: one.Host, Path: one.Where,
		Kind: "file", Does: []string{}, Rights: orNone(one.Access.Names(one.Directory)), Keeps: []string{}, Locks: []OpenLock{}, Since: one.Since.UTC(), DeletedAt: one.Deletes, Delegated: one.Delegated}
	switch {
	case one.Pipe != "":
		out.Kind = "pipe"
	case one.Directory:
		out.Kind = "directory"
	}
	for _, does := range []struct {
		is   bool
		what string
	}{
		{one.Access&(acl.ReadData|acl.Execute) != 0, "read"}, {one.Access&(acl.WriteData|acl.AppendData) != 0, "write"},
		{one.Access&(acl.Delete|acl.DeleteChild) != 0, "delete"}, {one.Access&(acl.WriteACL|acl.WriteOwner) != 0, "control"},
	} {
		if does.is {
			out.Does = append(out.Does, does.what)
		}
	}
	for _, keeps := range []struct {
		is   bool
		what string
	}{{one.Keeps.Read, "read"}, {one.Keeps.Write, "write"}, {one.Keeps.Delete, "delete"}} {
		if keeps.is {
			out.Keeps = append(out.Keeps, keeps.what)
		}
	}
	for _, l := range one.Locks {
		is := OpenLock{Offset: l.Offset, Exclusive: l.Exclusive}
		if l.Length < math.MaxUint64-l.Offset {
			is.Length = &l.Length
		}
		out.Locks = append(out.Locks, is)
	}
	return out
}

// Of what is connected there is one to be named.
type liveID struct {
	ID string `path:"id" maxLength:"64"`
}

func (s *Server) registerConnected() {
	handle(s, operation("list-sessions", http.MethodGet, "/sessions", "Say who is connected", "live"), func(ctx context.Context, in *ConnectedQuery) (Sessions, error) {
		all := s.svc.Connected(s.live, in.query())
		now, out := time.Now(), Sessions{Total: len(all), Sessions: []Session{}}
		for _, one := range latest(all, in.Limit) {
			out.Sessions = append(out.Sessions, sessionOf(one, now))
		}
		return out, nil
	})
	handle(s, operation("list-opens", http.MethodGet, "/opens", "Say what is open", "live"), func(ctx context.Context, in *ConnectedQuery) (Opens, error) {
		all := s.svc.OpenNow(s.live, in.query())
		out := Opens{Total: len(all), Opens: []Open{}}
		for _, one := range latest(all, in.Limit) {
			out.Opens = append(out.Opens, openOf(one))
		}
		return out, nil
	})
	do(s, operation("end-session", http.MethodDelete, "/sessions/{id}", "End a session", "live"), func(ctx context.Context, in *liveID) error {
		return s.on(ctx).EndConnected(ctx, caller(ctx), s.live, in.ID)
	})
	do(s, operation("close-open", http.MethodDelete, "/opens/{id}", "Close what somebody holds open", "live"), func(ctx context.Context, in *liveID) error {
		return s.on(ctx).CloseOpened(ctx, caller(ctx), s.live, in.ID)
	})
}
