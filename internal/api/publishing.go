package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/command"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/store"
)

// Share is a share's record.
type Share struct {
	Name             string            `json:"name"`
	Folder           string            `json:"folder"`
	Description      string            `json:"description"`
	Announced        bool              `json:"announced" doc:"Appears when a client lists the shares."`
	ReadOnly         bool              `json:"readOnly"`
	ListOnlyOpenable bool              `json:"listOnlyOpenable" doc:"Listings leave out what the user may not open."`
	Encrypted        bool              `json:"encrypted" doc:"Nothing goes over the wire open: clients that cannot encrypt (before SMB 3.0) are refused."`
	Persistent       bool              `json:"persistent" doc:"What is open outlasts a restart of the service, with clients that ask for that (SMB 3.0 and later)."`
	ShowLinks        bool              `json:"showLinks" doc:"Symbolic links are told to clients, which follow them themselves; else the service follows those that stay in the folder, and shows no others."`
	Guests           bool              `json:"guests" doc:"Who comes without an account may come in, as the user whom the service names for that."`
	Hosts            []HostTerm        `json:"hosts,omitempty" doc:"From which hosts it is used, the first that fits counts; none: from every one."`
	Offline          string            `json:"offline" enum:"manual,auto,vdo,none" doc:"What clients may keep for when they are not connected (MS-SMB2 section 2.2.10): what their users choose, whatever is opened, that and work on it without asking, nothing."`
	MostConnections  int               `json:"mostConnections,omitempty" doc:"How many sessions may be connected to it at once; left out for as many as come."`
	On               bool              `json:"on" doc:"Whether SMB is switched on."`
	Entries          []Entry           `json:"entries" doc:"Share-level permission, on top of the folder's; none lets everyone through."`
	Labels           map[string]string `json:"labels,omitempty" doc:"What it is marked with, by key."`
}

// HostTerm says from where a share is used.
type HostTerm struct {
	From     string `json:"from" maxLength:"253" doc:"An address, a network, a host name, a pattern of host names, * for every host, or @NAME for a host set, whose rules then say who may write."`
	ReadOnly bool   `json:"readOnly,omitempty" doc:"From there nothing is changed."`
}

// hostTerms are those of the records.
func hostTerms(terms []HostTerm) []site.HostTerm {
	out := []site.HostTerm{}
	for _, t := range terms {
		out = append(out, site.HostTerm(t))
	}
	return out
}

func shareOf(p *site.Policy, sh *site.PublishedShare) Share {
	out := Share{Name: sh.Name, Folder: sh.Folder.Name, Description: sh.Description, Announced: sh.Announced, ReadOnly: sh.ReadOnly,
		ListOnlyOpenable: sh.ListOnlyOpenable, Encrypted: sh.Encrypted, Persistent: sh.Persistent, ShowLinks: sh.ShowLinks, Guests: sh.Guests, On: p.Services.SMB, Entries: []Entry{}, Labels: sh.Labels.Map(),
		Offline: string(cmp.Or(sh.Offline, site.OfflineManual)), MostConnections: sh.MostConnections}
	for _, t := range sh.Hosts {
		out.Hosts = append(out.Hosts, HostTerm(t))
	}
	for i := range sh.Share.Entries {
		out.Entries = append(out.Entries, entryOf(p, &sh.Share.Entries[i], "share "+sh.Name))
	}
	return out
}

// Way is one thing to type on a client to open a folder.
type Way struct {
	System string `json:"system" enum:"Linux,macOS,Windows"`
	Over   string `json:"over" enum:"SMB,NFS"`
	Does   string `json:"does" doc:"What typing it does."`
	Text   string `json:"text" doc:"What to type."`
	// QR is for an address that a phone or a tablet can open.
	QR []string `json:"qr,omitempty" doc:"The same as a QR code, where it is an address: a row of modules each, 1 for a dark one, without the margin."`
}

func wayOf(w asking.Way) Way {
	out := Way{System: w.System, Over: w.Over, Does: w.Does, Text: w.Text}
	if strings.HasPrefix(w.Text, "smb://") || strings.HasPrefix(w.Text, "nfs://") {
		out.QR, _ = qrRows(w.Text) // one that is too long for a code is still an address
	}
	return out
}

// Service is a protocol and whether it is on.
type Service struct {
	Protocol  string `json:"protocol" enum:"smb,nfs"`
	On        bool   `json:"on"`
	Encrypted bool   `json:"encrypted,omitempty" doc:"Nothing goes over the wire open."`
	Guest     string `json:"guest,omitempty" doc:"SMB: the user as whom those come in who have no account; left out where nobody does."`
	Listens   string `json:"listens,omitempty" doc:"The address and port where it is answered; left out of the past."`
	OverQUIC  string `json:"overQuic,omitempty" doc:"SMB: the address and port where it is answered over QUIC, by UDP, as well."`
	Trouble   string `json:"trouble,omitempty" doc:"Why nobody gets to it though it is on."`
}

// guestOf names as whom those come in who have no account.
func guestOf(p *site.Policy) string {
	if u := p.Directory.User(p.Services.SMBGuest); u != nil {
		return u.Name
	}
	return ""
}

// serviceOf says how a protocol is, and, where it is on, whether it is got to where it listens.
func serviceOf(ctx context.Context, protocol string, on bool, listens string) Service {
	out := Service{Protocol: protocol, On: on, Listens: listens}
	at, err := netip.ParseAddrPort(listens)
	if err != nil || !on {
		return out
	}
	if at.Addr().IsUnspecified() {
		here := netip.AddrFrom4([4]byte{127, 0, 0, 1})
		if at.Addr().Is6() {
			here = netip.IPv6Loopback()
		}
		at = netip.AddrPortFrom(here, at.Port())
	}
	d := net.Dialer{Timeout: time.Second}
	c, err := d.DialContext(ctx, "tcp", at.String())
	if err != nil {
		out.Trouble = "it is on, and nothing answers at " + listens + " of this machine"
		return out
	}
	c.Close()
	return out
}

// JournalRow is one administrative act.
type JournalRow struct {
	Seq     int64          `json:"seq"`
	At      time.Time      `json:"at"`
	Actor   string         `json:"actor"`
	Action  string         `json:"action"`
	Subject string         `json:"subject"`
	Changes []RecordChange `json:"changes"`
	Event   *WireEvent     `json:"event,omitempty" doc:"Set where it is no change but something done, or refused, at the wire, from before that had a list of its own."`
}

// WireEvent is something done or refused at the wire, as often as it was.
type WireEvent struct {
	Via   string    `json:"via"`
	Gate  string    `json:"gate,omitempty" doc:"That refused."`
	From  string    `json:"from,omitempty" doc:"The client's address, of the first."`
	Count int64     `json:"count"`
	Since time.Time `json:"since" doc:"Of the first."`
}

// RecordChange is one record before and after an act.
type RecordChange struct {
	Kind   string          `json:"kind"`
	ID     int64           `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// JournalAct is one administrative act with what it changed in words.
type JournalAct struct {
	JournalRow
	Told []Told `json:"told" doc:"What became of each record."`
}

// Told is what became of one record.
type Told struct {
	Kind    string    `json:"kind"`
	ID      int64     `json:"id"`
	Name    string    `json:"name,omitempty" doc:"What it is called after the change, or was before it where it is gone."`
	Act     string    `json:"act" enum:"added,changed,removed"`
	Changed []Changed `json:"changed"`
}

// Changed is one thing that a record said.
type Changed struct {
	Name   string `json:"name" doc:"The option that sets it, or what it is: entry 12, rule 3, member lab."`
	Before string `json:"before,omitempty" doc:"In the form in which it is typed; left out where there was nothing."`
	After  string `json:"after,omitempty" doc:"Likewise; left out where there is nothing any more."`
}

// NewShare is what a share is made from.
type NewShare struct {
	Folder           string            `json:"folder" maxLength:"80"`
	Name             string            `json:"name,omitempty" maxLength:"80" doc:"The folder's if left out."`
	Description      string            `json:"description,omitempty" maxLength:"200"`
	Hidden           bool              `json:"hidden,omitempty" doc:"Do not announce it."`
	ReadOnly         bool              `json:"readOnly,omitempty"`
	ListOnlyOpenable bool              `json:"listOnlyOpenable,omitempty"`
	Encrypted        bool              `json:"encrypted,omitempty" doc:"Nothing goes over the wire open."`
	Persistent       bool              `json:"persistent,omitempty" doc:"What is open outlasts a restart of the service."`
	ShowLinks        bool              `json:"showLinks,omitempty" doc:"Symbolic links are told to clients, and not followed for them."`
	Guests           bool              `json:"guests,omitempty" doc:"Who comes without an account may come in."`
	Hosts            []HostTerm        `json:"hosts,omitempty" maxItems:"200" doc:"From which hosts it is used; left out: from every one."`
	Offline          string            `json:"offline,omitempty" enum:"manual,auto,vdo,none" doc:"What clients may keep for when they are not connected; manual if left out."`
	MostConnections  int               `json:"mostConnections,omitempty" minimum:"0" maximum:"1000000" doc:"How many sessions may be connected at once; as many as come if left out."`
	Labels           map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// ShareChange is what is to change of a share; what is left out stays.
type ShareChange struct {
	Name             *string           `json:"name,omitempty" maxLength:"80" doc:"Another name; what refers to it goes on to."`
	Description      *string           `json:"description,omitempty" maxLength:"200"`
	Announced        *bool             `json:"announced,omitempty"`
	ReadOnly         *bool             `json:"readOnly,omitempty"`
	ListOnlyOpenable *bool             `json:"listOnlyOpenable,omitempty"`
	Encrypted        *bool             `json:"encrypted,omitempty" doc:"Nothing goes over the wire open; who is connected and does not encrypt is refused from then on."`
	Persistent       *bool             `json:"persistent,omitempty" doc:"What is opened from then on outlasts a restart of the service; clients learn of it when they connect anew."`
	ShowLinks        *bool             `json:"showLinks,omitempty" doc:"Symbolic links are told to clients, and not followed for them."`
	Guests           *bool             `json:"guests,omitempty" doc:"Who comes without an account may come in."`
	Hosts            *[]HostTerm       `json:"hosts,omitempty" maxItems:"200" doc:"From which hosts it is used, in the place of those before; * alone, or none: from every one."`
	Offline          *string           `json:"offline,omitempty" enum:"manual,auto,vdo,none"`
	MostConnections  *int              `json:"mostConnections,omitempty" minimum:"0" maximum:"1000000" doc:"How many sessions may be connected at once, 0 for as many as come; who is connected stays."`
	Labels           map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// Switch says whether something is to be on.
type Switch struct {
	On        *bool   `json:"on,omitempty"`
	Encrypted *bool   `json:"encrypted,omitempty" doc:"SMB: nothing goes over the wire open, and clients that do not encrypt are refused."`
	Guest     *string `json:"guest,omitempty" doc:"SMB: the user, by name, as whom those come in who have no account, on shares that take guests; empty for nobody."`
}

func (s *Server) shares() resource[Share, NewShare, ShareChange] {
	shown := func(ctx context.Context) func(*site.PublishedShare) Share {
		return func(sh *site.PublishedShare) Share { return shareOf(s.on(ctx).Policy(), sh) }
	}
	return resource[Share, NewShare, ShareChange]{
		one: "share", many: "shares", route: "/shares", tag: "publishing",
		does: summaries{"List the shares", "Show a share", "Publish a folder over SMB", "Change a share", "End a publication; the folder stays"},
		listing: listing[Share]{name: func(sh *Share) string { return sh.Name }, labels: func(sh *Share) map[string]string { return sh.Labels }, matches: func(sh *Share) []string { return []string{sh.Folder, sh.Description} }, sorts: map[string]func(*Share) string{
			"folder": func(sh *Share) string { return sh.Folder }}},
		all: func(ctx context.Context) (out []Share) {
			p := s.on(ctx).Policy()
			for _, sh := range p.Shares {
				out = append(out, shareOf(p, sh))
			}
			return out
		},
		show: func(ctx context.Context, name string) (Share, error) {
			sh, err := s.on(ctx).Share(name)
			return shownBy(sh, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewShare) (Share, error) {
			sh, err := s.on(ctx).CreateShare(ctx, caller(ctx), service.ShareInput{Folder: b.Folder, Name: b.Name, Description: b.Description, Hidden: b.Hidden, ReadOnly: b.ReadOnly,
				ListOnlyOpenable: b.ListOnlyOpenable, Encrypted: b.Encrypted, Persistent: b.Persistent, ShowLinks: b.ShowLinks, Guests: b.Guests,
				Hosts: hostTerms(b.Hosts), Offline: b.Offline, MostConnections: b.MostConnections, Labels: b.Labels})
			return shownBy(sh, err, shown(ctx))
		},
		change: func(ctx context.Context, name string, b ShareChange) (Share, error) {
			in := service.ShareChange{Name: b.Name, Description: b.Description, Announced: b.Announced, ReadOnly: b.ReadOnly, ListOnlyOpenable: b.ListOnlyOpenable,
				Encrypted: b.Encrypted, Persistent: b.Persistent, ShowLinks: b.ShowLinks, Guests: b.Guests, Offline: b.Offline, MostConnections: b.MostConnections, Labels: b.Labels}
			if b.Hosts != nil {
				in.Hosts = new(hostTerms(*b.Hosts))
			}
			sh, err := s.on(ctx).UpdateShare(ctx, caller(ctx), name, in)
			return shownBy(sh, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveShare(ctx, caller(ctx), name) },
	}
}

func (s *Server) registerPublishing() {
	register(s, s.shares())
	op := operation("add-share-entry", http.MethodPost, "/shares/{name}/entries", "Write a share-level entry", "publishing")
	op.DefaultStatus = http.StatusCreated
	handle(s, op, func(ctx context.Context, in *struct {
		Named
		Body EntryBody
	}) (Made, error) {
		id, err := s.on(ctx).AddShareEntry(ctx, caller(ctx), in.Name, in.Body.input())
		return Made{id}, err
	})
	handle(s, operation("change-share-entry", http.MethodPatch, "/shares/{name}/entries/{id}", "Change a share-level entry", "publishing"), func(ctx context.Context, in *struct {
		Named
		ID   int64 `path:"id"`
		Body EntryChange
	}) (Share, error) {
		sh, err := s.on(ctx).UpdateShareEntry(ctx, caller(ctx), in.Name, in.ID, in.Body.change())
		if err != nil {
			return Share{}, err
		}
		return shareOf(s.on(ctx).Policy(), sh), nil
	})
	do(s, operation("remove-share-entry", http.MethodDelete, "/shares/{name}/entries/{id}", "Remove a share-level entry", "publishing"), func(ctx context.Context, in *struct {
		Named
		ID int64 `path:"id"`
	}) error {
		return s.on(ctx).RemoveShareEntry(ctx, caller(ctx), in.Name, in.ID)
	})

	handle(s, operation("connect", http.MethodGet, "/folders/{name}/connect", "List what to type on clients to open a folder", "publishing"), func(ctx context.Context, in *struct {
		Named
		Host string `query:"host" maxLength:"253" doc:"The gateway as clients reach it; as this request did, if left out."`
		User string `query:"user" maxLength:"64" doc:"For whom; the word USER stands in, if left out."`
	}) ([]Way, error) {
		host := in.Host
		if host == "" {
			host = reachedBy(ctx).host
		}
		ways, err := s.on(ctx).Connect(in.Name, host, asking.Ports{SMB: s.smbPort, NFS: s.nfsPort}, in.User)
		out := []Way{}
		for _, w := range ways {
			out = append(out, wayOf(w))
		}
		return out, err
	})
	handle(s, operation("list-services", http.MethodGet, "/services", "List the protocols and whether they are on", "publishing"), func(ctx context.Context, in *When) ([]Service, error) {
		svc, err := s.as(ctx, *in)
		if err != nil {
			return nil, err
		}
		on := svc.Policy().Services
		if !in.At.IsZero() {
			return []Service{{Protocol: "smb", On: on.SMB, Encrypted: on.SMBEncrypted, Guest: guestOf(svc.Policy())}, {Protocol: "nfs", On: on.NFS}}, nil
		}
		smb := serviceOf(ctx, "smb", on.SMB, s.smbAt)
		smb.Encrypted, smb.OverQUIC, smb.Guest = on.SMBEncrypted, s.quicAt, guestOf(svc.Policy())
		return []Service{smb, serviceOf(ctx, "nfs", on.NFS, s.nfsAt)}, nil
	})
	do(s, operation("switch-service", http.MethodPut, "/services/{protocol}", "Switch a protocol on or off, or set how it is served", "publishing"), func(ctx context.Context, in *struct {
		Protocol string `path:"protocol" enum:"smb,nfs"`
		Body     Switch
	}) error {
		return s.on(ctx).SetService(ctx, caller(ctx), in.Protocol, service.ServiceChange{On: in.Body.On, Encrypted: in.Body.Encrypted, Guest: in.Body.Guest})
	})
}

func rowOf(r store.JournalRow) (JournalRow, error) {
	row := JournalRow{Seq: r.Seq, At: r.At, Actor: r.Actor, Action: r.Action, Subject: r.Subject, Changes: []RecordChange{}}
	for _, c := range r.Changes {
		if c.Kind == store.DeedKind {
			row.Event = &WireEvent{}
			if err := json.Unmarshal(c.After, row.Event); err != nil {
				return row, err
			}
			continue
		}
		row.Changes = append(row.Changes, RecordChange(c))
	}
	return row, nil
}

// verified is the outcome of following a chain.
func verified(n int64, err error) (JournalVerified, error) {
	if errors.Is(err, store.ErrBroken) {
		return JournalVerified{Rows: n, Problem: err.Error()}, nil
	}
	return JournalVerified{Rows: n, Intact: err == nil}, err
}

// JournalVerified is the outcome of following a chain.
type JournalVerified struct {
	Rows    int64  `json:"rows" doc:"How many rows were looked at."`
	Intact  bool   `json:"intact"`
	Problem string `json:"problem,omitempty" doc:"The first row that does not fit."`
	Hash    []byte `json:"hash,omitempty" doc:"Of the row that was asked for; left out where there is none."`
}

// Why is the account of a verdict.
type Why struct {
	User    string    `json:"user"`
	Path    string    `json:"path"`
	Exists  bool      `json:"exists" doc:"Whether the path is on disk; if not, this is what would hold for a directory there."`
	File    bool      `json:"file"`
	Via     string    `json:"via" enum:"smb,nfs"`
	Share   string    `json:"share,omitempty" doc:"Over NFS, the export's path."`
	From    string    `json:"from,omitempty" doc:"Over NFS, the client's address."`
	Want    string    `json:"want" doc:"The level, or the access rights, that were asked about."`
	Allowed bool      `json:"allowed"`
	Gate    string    `json:"gate,omitempty" doc:"The first gate that withholds something wanted."`
	Granted string    `json:"granted" doc:"What all gates together leave: a level, and access rights beyond it."`
	Bits    []string  `json:"bits" doc:"The same as RFC 8881 access mask bits."`
	At      time.Time `json:"at"`
	Away    string    `json:"away,omitempty" doc:"Why the volume is not where it should be: until it is, everybody is answered with an I/O error."`
	Gates   []Gate    `json:"gates"`
	Take    []string  `json:"takeAway,omitempty" doc:"The command that would take it away, where it is allowed."`
}

// Gate is what one gate asked and left.
type Gate struct {
	Gate    string      `json:"gate" enum:"account,service,origin,share,path,entry,hold,limit"`
	Passed  bool        `json:"passed" doc:"Leaves all that was wanted."`
	Leaves  string      `json:"leaves" doc:"The level it leaves; everything where it withholds nothing."`
	Reason  string      `json:"reason"`
	Record  string      `json:"record,omitempty" doc:"The record that decided."`
	Entries []GateEntry `json:"entries"`
	Fix     []string    `json:"fix" doc:"The commands that together would make this gate leave what was wanted."`
	Touches []string    `json:"touches,omitempty" doc:"What those change for others than who asks."`
}

// GateEntry is an entry that decided some bit.
type GateEntry struct {
	ID    int64    `json:"id"`
	Path  string   `json:"path"`
	Deny  bool     `json:"deny"`
	Who   string   `json:"who"`
	Level string   `json:"level"`
	Chain []string `json:"chain,omitempty" doc:"The groups through which the user is meant, the innermost first."`
	Bits  []string `json:"bits" doc:"The bits it decided."`
}

func whyOf(a asking.Answer) Why {
	out := Why{Away: a.Away, User: a.User, Path: a.Path, Exists: a.Exists, File: a.File, Via: command.Word(a.Via), Share: a.Share, From: a.From, Want: a.Want,
		Allowed: a.Verdict.Allowed(), Granted: acl.HadOf(a.Verdict.Granted, a.Kind).Text(a.Kind), Bits: a.Verdict.Granted.Names(!a.File), At: a.At.UTC(), Gates: []Gate{}}
	if out.Bits == nil {
		out.Bits = []string{}
	}
	if !out.Allowed {
		out.Gate = a.Verdict.Gate.String()
	}
	want := a.Rights
	for _, g := range a.Gates {
		leaves := acl.HadOf(g.Leaves, a.Kind).Text(a.Kind)
		if g.Leaves == acl.All {
			leaves = "everything"
		}
		gate := Gate{Gate: g.Gate.String(), Passed: want&^g.Leaves == 0, Leaves: leaves, Reason: g.Reason, Record: g.Record, Entries: []GateEntry{}, Fix: []string{}}
		for _, e := range g.Entries {
			gate.Entries = append(gate.Entries, GateEntry{ID: e.ID, Path: e.Path, Deny: e.Deny, Who: e.Who, Level: e.Grant, Chain: e.Chain, Bits: e.Decided.Names(!a.File)})
		}
		for _, m := range g.Fixes {
			gate.Fix = append(gate.Fix, command.Of(m))
			if m.Touches != "" {
				gate.Touches = append(gate.Touches, command.Of(m)+" also concerns "+m.Touches)
			}
		}
		out.Gates = append(out.Gates, gate)
	}
	for _, m := range a.TakeAway {
		out.Take = append(out.Take, command.Of(m))
	}
	return out
}

func (s *Server) registerWhy() {
	handle(s, operation("why", http.MethodGet, "/why", "Explain what a user may do to a path, gate by gate", "audit"), func(ctx context.Context, in *struct {
		AtPath
		When
		User  string `query:"user" required:"true" maxLength:"64"`
		Via   string `query:"via" enum:"smb,nfs" default:"smb"`
		Want  string `query:"want" maxLength:"255" default:"read" doc:"A level (pass, read, add, change or control), or access rights by their RFC 8881 names with commas between." example:"write_acl,write_owner"`
		Share string `query:"share" maxLength:"255" doc:"Which of the folder's shares, or exports; the one that leaves most if left out."`
		From  string `query:"from" maxLength:"253" doc:"The client's address, or its host name; over SMB it matters where the share is kept to hosts, and may be left out."`
		Port  int    `query:"port" minimum:"0" maximum:"65535" doc:"Over NFS: the source port; a privileged one if left out."`
	}) (Why, error) {
		if err := s.ownOr(ctx, in.User, in.Path); err != nil {
			return Why{}, err
		}
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return Why{}, err
		}
		a, err := svc.Why(ctx, asking.Question{User: in.User, Path: in.Path, Via: in.Via, Want: in.Want, Share: in.Share, From: in.From, Port: in.Port})
		if err != nil {
			return Why{}, err
		}
		return whyOf(a), nil
	})
}
