package api

import (
	"context"
	"net/http"
	"time"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/doctor"
	"amber.example/gatekeeper/internal/service"
)

// Examined is what was found about the machine and the way in.
type Examined struct {
	State    string       `json:"state" enum:"well,to mind,wrong" doc:"That of the worst."`
	Findings []StatusLine `json:"findings"`
}

// ExaminedOf lists findings as the API does.
func ExaminedOf(all []doctor.Finding) Examined {
	out := Examined{State: doctor.Worst(all), Findings: []StatusLine{}}
	for _, f := range all {
		out.Findings = append(out.Findings, StatusLine{What: f.What, State: f.State, Says: f.Says, Next: f.Next})
	}
	return out
}

// subject is what is to be looked at about this service.
func (s *Server) subject(ctx context.Context) doctor.Subject {
	p := s.svc.Policy()
	out := doctor.Subject{State: s.svc.StateDir(), Written: s.lastWritten(ctx)}
	if s.host != nil {
		out.Ports = append(out.Ports, doctor.Port{Name: "console", Address: s.host.ConsoleAt(), Ours: true})
	}
	for _, p := range []doctor.Port{{Name: "SMB", Address: s.smbAt, Ours: true}, {Name: "NFS", Address: s.nfsAt, Ours: true}} {
		if p.Address != "" {
			out.Ports = append(out.Ports, p)
		}
	}
	for _, v := range p.Volumes {
		one := doctor.Volume{Name: v.Name, Path: v.Path}
		if away, is := s.svc.VolumeAway(v.ID); is {
			one.Away = away.Why
		}
		out.Volumes = append(out.Volumes, one)
	}
	out.Hosts, _ = p.HostNames()
	out.Hosts = out.Hosts[:min(len(out.Hosts), 20)]
	return out
}

func (s *Server) lastWritten(ctx context.Context) time.Time {
	last, _, err := s.svc.Contents(ctx)
	if err != nil {
		return time.Time{}
	}
	row, there, err := s.svc.Row(ctx, last)
	if err != nil || !there {
		return time.Time{}
	}
	return row.At
}

// ways are those by which a folder is published, as a client would go them.
func (s *Server) ways(ctx context.Context, client, folder string) ([]doctor.Way, error) {
	origin, err := s.svc.Origin(ctx, client, 0)
	if err != nil {
		return nil, err
	}
	f, err := s.svc.Folder(folder)
	if err != nil {
		return nil, err
	}
	on := s.svc.Policy().Services
	var out []doctor.Way
	for range f.Shares[:min(len(f.Shares), 1)] {
		w := doctor.Way{Name: "SMB", Address: s.smbAt, Client: origin.Address}
		if !on.SMB {
			w.Refused, w.Next = "SMB is switched off", "amber service on smb"
		}
		out = append(out, w)
	}
	for _, e := range f.Exports {
		w := doctor.Way{Name: "NFS", Address: s.nfsAt, Export: e.Path, Client: origin.Address, Inside: s.doors.NFS}
		tried, err := s.svc.TryExport(ctx, e.Path, client, 0)
		switch {
		case err != nil:
			return nil, err
		case !tried.Lets:
			w.Refused, w.Next = tried.Reason, "amber export try "+plain.Word(e.Path)+" --from "+origin.Address.String()
		}
		out = append(out, w)
	}
	if len(out) == 0 {
		return nil, &service.Error{Kind: service.Conflict, Field: "folder", Message: f.Name + " is published in no way", Next: "amber share add " + plain.Word(f.Name)}
	}
	return out, nil
}

func (s *Server) registerDoctor() {
	handle(s, operation("examine", http.MethodGet, "/doctor", "Look for what is wrong with the machine around the service, and with the way in for a client", "running"), func(ctx context.Context, in *struct {
		Client string `query:"client" maxLength:"255" doc:"A client, by address or name, for which the way into the folder is tried."`
		Folder string `query:"folder" maxLength:"64"`
	}) (Examined, error) {
		if (in.Client == "") != (in.Folder == "") {
			return Examined{}, &service.Error{Kind: service.Invalid, Field: "folder", Message: "a client and a folder are named together"}
		}
		if in.Client == "" {
			return ExaminedOf(doctor.This().Examine(ctx, s.subject(ctx))), nil
		}
		ways, err := s.ways(ctx, in.Client, in.Folder)
		if err != nil {
			return Examined{}, err
		}
		var all []doctor.Finding
		for i := range ways {
			all = append(all, ways[i].Go(ctx)...)
		}
		return ExaminedOf(all), nil
	})
}
