package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/files"
)

// nameFlag is for giving a record another name.
func nameFlag() cli.Flag {
	return &cli.StringFlag{Name: "name", Usage: "another name; what refers to it goes on to"}
}

func (a *app) placeCommands() []*cli.Command {
	volume := group("volume", "host directories in which folders are made",
		a.leaf("add", "register a host directory", "NAME DIRECTORY", []cli.Flag{
			&cli.BoolFlag{Name: "take-over", Usage: "though it carries the mark of another service's volume, which has ended for good"},
			markFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			path, err := filepath.Abs(args[1])
			if err != nil {
				return usage("%v", err)
			}
			b := body{"name": args[0], "path": path, "take_over": cmd.Bool("take-over")}
			if err := fillLabels(cmd, b); err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPost, "volumes", nil, b, func(w io.Writer, v api.Volume) { fields(w, "volume", v.Name, "directory", v.Path) })
		}),
		volumes.list(a, "list the volumes"), volumes.remove(a),
		volumes.set(a, "change what is counted of what is stored on a volume, or what the volume is", "--name, --counting, --path or --here", []cli.Flag{
			&cli.StringFlag{Name: "counting", Usage: "size, as people see files; allocated, as they take space on disk, where holes cost nothing; or off"},
			nameFlag(),
			&cli.StringFlag{Name: "path", Usage: "the directory where it is mounted now; it has to carry the volume's mark"},
			&cli.BoolFlag{Name: "here", Usage: "take what is at its directory now for the volume: after a disk was replaced and its data put back"},
		}, func(cmd *cli.Command, b body) error {
			given(cmd, b.put, "name", "counting")
			if cmd.IsSet("path") {
				path, err := filepath.Abs(cmd.String("path"))
				if err != nil {
					return usage("%s is no path", cmd.String("path"))
				}
				b["path"] = path
			}
			if cmd.Bool("here") {
				b["here"] = true
			}
			return nil
		}),
		a.leaf("candidates", "look at a directory of the host for what may be a volume, and why what cannot", "[DIRECTORY]", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			query := url.Values{}
			if len(args) > 0 {
				path, err := filepath.Abs(args[0])
				if err != nil {
					return usage("%v", err)
				}
				query.Set("path", path)
			}
			return ask(ctx, a, cmd, http.MethodGet, "volume-candidates", query, nil, printCandidates)
		}),
		a.leaf("show", "show a volume, with the room that there is on it", "NAME", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			return ask(ctx, a, cmd, http.MethodGet, volumes.at(args[0]), nil, nil, printVolumeRoom)
		}),
	)
	folder := group("folder", "directories that can be published",
		a.leaf("add", "make a folder; a directory that is there already is adopted", "NAME", []cli.Flag{
			&cli.StringFlag{Name: "volume", Usage: "the volume it is on", Required: true},
			&cli.StringFlag{Name: "path", Usage: "where on the volume, if not under its name"},
			&cli.StringFlag{Name: "description", Usage: "what it is for"},
			&cli.StringFlag{Name: "owner", Usage: "the user who owns what has no owner of its own"},
			&cli.StringFlag{Name: "group", Usage: "the group likewise"},
			&cli.StringFlag{Name: "permissions", Usage: "what decides: acl, the entries, or unix, each object's owner, group, mode and POSIX ACL", DefaultText: "acl"},
			&cli.StringFlag{Name: "ownership", Usage: "where objects carry their owner: native, as the host's own, or mapped, in an extended attribute", DefaultText: "native for a service that runs as root"},
			&cli.StringFlag{Name: "mode", Usage: "of the folder itself, in octal, with --permissions unix"},
			&cli.BoolFlag{Name: "convert", Usage: "turn the owners, modes and POSIX ACLs of what is there already into entries"},
			&cli.StringFlag{Name: "arrangement", Usage: "a ready-made set of entries: amber arrangement list"},
			&cli.StringSliceFlag{Name: "team", Usage: "users and groups for the arrangement's first blank"},
			&cli.StringSliceFlag{Name: "others", Usage: "and for its second"},
			markFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{"name": args[0]}
			if err := fillLabels(cmd, b); err != nil {
				return err
			}
			for _, f := range []string{"team", "others"} {
				if cmd.IsSet(f) {
					b[f] = cmd.StringSlice(f)
				}
			}
			if cmd.Bool("convert") {
				b["convert"] = true
			}
			given(cmd, b.put, "volume", "path", "description", "owner", "group", "permissions", "ownership", "mode", "arrangement")
			var f api.Folder
			if err := a.client.call(ctx, http.MethodPost, "folders", nil, b, &f); err != nil {
				return err
			}
			if f.Converting == 0 {
				return show(a, cmd, f, printFolder)
			}
			if err := a.follow(ctx, &api.Job{ID: f.Converting}); err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodGet, "folders/"+escape(f.Name), nil, nil, printFolder)
		}),
		folders.list(a, "list the folders"), folders.show(a, "show a folder with everything written on it"), folders.remove(a),
		a.makeOwnCommand(),
		folders.set(a, "change a folder's record", "what, such as --description", []cli.Flag{
			nameFlag(),
			&cli.StringFlag{Name: "description", Usage: "what it is for"},
			&cli.StringFlag{Name: "owner", Usage: "the user who owns what has no owner of its own"},
			&cli.StringFlag{Name: "group", Usage: "the group likewise"},
			&cli.BoolFlag{Name: "log-access", Usage: "whether amber events tells who reads and writes which file"},
			&cli.StringFlag{Name: "personal", Usage: "each of this group has a directory of their own in it, made at first use; none for none"},
		}, func(cmd *cli.Command, b body) error {
			given(cmd, b.put, "name", "description", "owner", "group")
			if personal := cmd.String("personal"); cmd.IsSet("personal") {
				if personal == "none" {
					personal = ""
				}
				b["personal"] = personal
			}
			if cmd.IsSet("log-access") {
				b["logAccess"] = cmd.Bool("log-access")
			}
			return nil
		}),
		a.leaf("convert", "turn the owners, modes and POSIX ACLs of a folder into entries, which decide from then on", "NAME", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			var j api.Job
			if err := a.client.call(ctx, http.MethodPost, "folders/"+escape(args[0])+"/convert", nil, nil, &j); err != nil {
				return err
			}
			return a.followed(ctx, cmd, &j)
		}),
	)
	return []*cli.Command{volume, folder, a.arrangementCommand(), a.ownerCommand(), a.entryCommand(), a.browseCommand()}
}

var volumes = resource[api.Volume]{
	one: "volume", many: "volumes", route: "volumes/", arg: "NAME", labels: func(v api.Volume) map[string]string { return v.Labels },
	head: []string{"name", "counts", "state", "directory"}, empty: "no volumes yet: amber volume add NAME DIRECTORY",
	row: func(v api.Volume) []string {
		state := "there"
		if v.Away != "" {
			state = "away"
		}
		return []string{v.Name, v.Counting, state, v.Path}
	},
	below: func(w io.Writer, all []api.Volume) {
		for _, v := range all {
			if v.Away != "" {
				hung(w, v.Name+"  ", fmt.Sprintf("away since %s: %s. What is on it is answered with an error until it is back.", v.Since.Local().Format("2006-01-02 15:04"), v.Away))
			}
		}
	},
	print: func(w io.Writer, v api.Volume) {
		fields(w, "volume", v.Name, "directory", v.Path, "counting", v.Counting, "labels", labelText(v.Labels))
	},
	removes: "This forgets the volume %s. Its data stays.",
}

func printCandidates(w io.Writer, c api.VolumeCandidates) {
	if c.Path != "" {
		room := ""
		if c.FreeBytes != nil && c.TotalBytes != nil {
			room = limit.FormatSize(*c.FreeBytes) + " free of " + limit.FormatSize(*c.TotalBytes)
		}
		fields(w, "directory", c.Path, "file system", c.FileSystem, "room", room, "mind", c.Mind, "cannot be", c.Wrong)
		fmt.Fprintln(w)
	}
	t := newTable("directory", "may be a volume")
	t.empty, t.wrapLast = "no directories are in it", true
	for _, b := range c.Below {
		may := "yes"
		if b.Wrong != "" {
			may = "no: " + b.Wrong
		}
		t.row(b.Path, may)
	}
	t.print(w)
	if c.More {
		fmt.Fprintln(w, "and more: look at one of them")
	}
}

func (a *app) browseCommand() *cli.Command {
	return a.leaf("browse", "list a directory of a folder: owners, sizes, what is written where, and what a user may do", "PATH", []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "whose levels to tell"},
		&cli.StringFlag{Name: "match", Usage: "only names that hold this"},
		&cli.BoolFlag{Name: "directories", Usage: "only directories"},
		&cli.StringFlag{Name: "after", Usage: "only names after this one: the next page"},
		atFlag(),
		&cli.IntFlag{Name: "limit", Usage: "how many at most", Value: 500},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		query := url.Values{"path": {args[0]}, "limit": {strconv.Itoa(cmd.Int("limit"))}}
		given(cmd, query.Set, "user", "match", "after")
		if err := setAt(cmd, query); err != nil {
			return err
		}
		if cmd.Bool("directories") {
			query.Set("only", "directories")
		}
		return ask(ctx, a, cmd, http.MethodGet, "browse", query, nil, printBrowsed)
	})
}

func printBrowsed(w io.Writer, b api.Browsed) {
	head := []string{"name", "owner", "group", "mode", "size", "written on it"}
	if b.User != "" {
		head = append(head, b.User+" may")
		fields(w, "directory", b.Path, b.User+" may", b.Level.Text)
		fmt.Fprintln(w)
	}
	t := newTable(head...)
	t.empty = "nothing is in it"
	for _, n := range b.Below {
		size, name := "", n.Name
		switch n.Sort {
		case files.RegularFile:
			size = limit.FormatSize(n.Size)
		case files.Directory:
			name += "/"
		default:
			size = string(n.Sort)
		}
		written := ""
		if n.Entries > 0 {
			written = fmt.Sprintf("%d entr%s", n.Entries, map[bool]string{true: "y", false: "ies"}[n.Entries == 1])
		}
		if n.Cut {
			written = strings.TrimPrefix(written+", inherits nothing", ", ")
		}
		row := []string{name, n.Owner, n.Group, n.Mode, size, written}
		if n.Level != nil {
			row = append(row, n.Level.Text)
		} else if b.User != "" {
			row = append(row, "")
		}
		t.row(row...)
	}
	t.print(w)
	if b.More {
		fmt.Fprintln(w, "and more: --after "+plain.Word(b.Below[len(b.Below)-1].Name))
	}
}

func printVolumeRoom(w io.Writer, v api.VolumeRoom) {
	state, room, files := "there", "", ""
	if v.Away != "" {
		state = "away since " + v.Since.Local().Format("2006-01-02 15:04") + ": " + v.Away
	}
	if v.TotalBytes != nil {
		room = fmt.Sprintf("%s free of %s", limit.FormatSize(*v.FreeBytes), limit.FormatSize(*v.TotalBytes))
	}
	if v.TotalFiles != nil {
		files = fmt.Sprintf("%d free of %d", *v.FreeFiles, *v.TotalFiles)
	}
	fields(w, "volume", v.Name, "directory", v.Path, "state", state, "counting", v.Counting, "room", room, "files", files, "folders", strings.Join(v.Folders, ", "), "labels", labelText(v.Labels))
}

var folders = resource[api.Folder]{
	one: "folder", many: "folders", route: "folders/", arg: "NAME", labels: func(f api.Folder) map[string]string { return f.Labels },
	head: []string{"name", "volume", "published as", "description"}, empty: "no folders yet: amber folder add NAME --volume VOLUME",
	row:   func(f api.Folder) []string { return []string{f.Name, f.Volume, publishedAs(f), f.Description} },
	print: printFolder, removes: "This forgets the folder %s, its entries and its shares. Its data stays.",
}

func (a *app) entryCommand() *cli.Command {
	at := func(path string) url.Values { return url.Values{"path": {path}} }
	inherit := func(ctx context.Context, cmd *cli.Command, path string, on, copied bool, said string) error {
		body := map[string]any{"path": path, "inherit": on, "copy": copied}
		if err := a.client.call(ctx, http.MethodPut, "inheritance", nil, body, nil); err != nil {
			return err
		}
		return a.done(cmd, said, path)
	}
	return group("entry", "who may do what, on a folder or a path in it",
		a.leaf("set", "change an entry on the path it is written on", "PATH NUMBER", []cli.Flag{
			&cli.StringFlag{Name: "level", Usage: "pass, read, add, change or control, or RFC 8881 bits"},
			&cli.StringSliceFlag{Name: "applies", Usage: "what it reaches: folder, subfolders, files; direct for no further down"},
			&cli.StringFlag{Name: "ends", Usage: "the last day on which it counts, a time, or never"},
			&cli.StringFlag{Name: "note", Usage: "why it is there"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b, err := entryChange(cmd)
			if err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPatch, "entries/"+escape(args[1]), at(args[0]), b, func(w io.Writer, p api.Place) { printPlace(w, p, false) })
		}),
		a.leaf("clear", "remove what is written on a path; data stays", "PATH", []cli.Flag{
			&cli.BoolFlag{Name: "below", Usage: "and on all paths below"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			q := at(args[0])
			if cmd.Bool("below") {
				q.Set("below", "true")
			}
			a.says = "This removes what is written on " + args[0] + "."
			if err := a.client.call(ctx, http.MethodDelete, "rules", q, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "cleared %s", args[0])
		}),
		a.leaf("export", "write what is explicit on a path in an open form", "PATH", []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "nfs4, the text of the NFSv4 client tools; sddl; or, where modes decide, getfacl", Value: "nfs4"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			q := at(args[0])
			q.Set("format", cmd.String("format"))
			return ask(ctx, a, cmd, http.MethodGet, "acls", q, nil, func(w io.Writer, t api.ListText) { fmt.Fprint(w, t.Text) })
		}),
		a.leaf("import", "write on a path what a text says, in the place of what is written there; - is the standard input", "PATH FILE", []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "nfs4 or sddl", Value: "nfs4"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			text, err := a.readFile(args[1])
			if err != nil {
				return err
			}
			b := map[string]string{"path": args[0], "format": cmd.String("format"), "text": text}
			return ask(ctx, a, cmd, http.MethodPut, "acls", nil, b, func(w io.Writer, p api.Place) { printPlace(w, p, false) })
		}),
		a.leaf("copy", "make what holds on one path, and below, hold on another", "FROM TO", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.client.call(ctx, http.MethodPost, "rules/copy", nil, map[string]string{"from": args[0], "to": args[1]}, nil); err != nil {
				return err
			}
			return a.done(cmd, "what holds on %s holds on %s now", args[0], args[1])
		}),
		a.leaf("add", "write an entry on FOLDER or FOLDER/PATH; WHO is a user, a group, owner@, group@ or everyone@; LEVEL is pass, read, add, change or control, or RFC 8881 bits such as read_acl,write_acl", "PATH allow|deny WHO LEVEL", []cli.Flag{
			&cli.StringSliceFlag{Name: "applies", Usage: "what it reaches: folder, subfolders, files; direct for no further down", DefaultText: "folder,subfolders,files"},
			&cli.StringFlag{Name: "ends", Usage: "the last day on which it counts, or a time"},
			&cli.StringFlag{Name: "note", Usage: "why it is there"},
			&cli.BoolFlag{Name: "through", Usage: "write entries as well that let them pass every directory above, where none does yet"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b, err := entryBody(args[1:], cmd)
			if err != nil {
				return err
			}
			in := struct {
				Path string `json:"path"`
				api.EntryBody
			}{args[0], b}
			return ask(ctx, a, cmd, http.MethodPost, "entries", nil, in, func(w io.Writer, m api.Made) {
				fmt.Fprintf(w, "entry %d on %s: %s %s %s\n", m.ID, args[0], args[1], b.Who, b.Level)
			})
		}),
		a.leaf("list", "list the entries that bear on a path, in the order in which they are evaluated", "PATH", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "entries", at(args[0]), nil, func(w io.Writer, p api.Place) { printPlace(w, p, true) })
		}),
		a.leaf("remove", "remove an entry from the path it is written on, or several as one change", "PATH NUMBER...", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.callAll(ctx, http.MethodDelete, args[1:], at(args[0]), func(number string) string { return "entries/" + escape(number) }); err != nil {
				return err
			}
			return a.done(cmd, "removed entry %s from %s", strings.Join(args[1:], ", "), args[0])
		}),
		a.leaf("cut", "inherit nothing from above", "PATH", []cli.Flag{
			&cli.BoolFlag{Name: "copy", Usage: "keep a copy of what was inherited"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			return inherit(ctx, cmd, args[0], false, cmd.Bool("copy"), "%s inherits nothing from above now")
		}),
		a.leaf("inherit", "inherit from above again", "PATH", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			return inherit(ctx, cmd, args[0], true, false, "%s inherits from above again")
		}),
	)
}

// ownerCommand gives paths to others, and tells how far it is.
func (a *app) ownerCommand() *cli.Command {
	return group("owner", "whom files and directories belong to",
		a.leaf("set", "give a path to an owner, a group, or both", "PATH", []cli.Flag{
			&cli.StringFlag{Name: "owner", Usage: "the user"},
			&cli.StringFlag{Name: "group", Usage: "the group"},
			&cli.BoolFlag{Name: "below", Usage: "and all that is below; Ctrl-C cancels it where it is"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := map[string]any{"path": args[0], "owner": cmd.String("owner"), "group": cmd.String("group"), "below": cmd.Bool("below")}
			var w api.Job
			if err := a.client.call(ctx, http.MethodPut, "owner", nil, b, &w); err != nil {
				return err
			}
			if err := a.follow(ctx, &w); err != nil {
				return err
			}
			return a.done(cmd, "%d files and directories given", w.Done)
		}))
}

func (a *app) arrangementCommand() *cli.Command {
	return group("arrangement", "ready-made sets of entries",
		a.leaf("list", "list the arrangements and the blanks they have", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "arrangements", nil, nil, func(w io.Writer, list []api.Arrangement) {
				t := newTable("name", "--team", "--others", "what it is")
				t.wrapLast = true
				for _, r := range list {
					t.row(r.Name, r.Team, r.Others, r.Text)
				}
				t.print(w)
			})
		}),
		a.leaf("apply", "write an arrangement on a path, in the place of what is written there", "PATH NAME", []cli.Flag{
			&cli.StringSliceFlag{Name: "team", Usage: "users and groups for its first blank", Required: true},
			&cli.StringSliceFlag{Name: "others", Usage: "and for its second"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := map[string]any{"path": args[0], "arrangement": args[1], "team": cmd.StringSlice("team"), "others": cmd.StringSlice("others")}
			return ask(ctx, a, cmd, http.MethodPut, "arrangement", nil, b, func(w io.Writer, p api.Place) { printPlace(w, p, false) })
		}))
}

// entryBody reads allow|deny WHO LEVEL.
func entryBody(args []string, cmd *cli.Command) (api.EntryBody, error) {
	b := api.EntryBody{Who: args[1], Level: args[2], Note: cmd.String("note"), Applies: cmd.StringSlice("applies"), Through: cmd.Bool("through")}
	switch args[0] {
	case "allow":
	case "deny":
		b.Deny = true
	default:
		return b, usage("write allow or deny, not %q", args[0])
	}
	if cmd.IsSet("ends") {
		t, err := endDate(cmd.String("ends"))
		if err != nil {
			return b, err
		}
		if !t.IsZero() {
			b.Ends = &t
		}
	}
	return b, nil
}

// entryChange is what is to change of an entry.
func entryChange(cmd *cli.Command) (body, error) {
	b := make(body)
	given(cmd, b.put, "level", "note")
	if cmd.IsSet("applies") {
		b["applies"] = cmd.StringSlice("applies")
	}
	if cmd.IsSet("ends") {
		t, err := endDate(cmd.String("ends"))
		if err != nil {
			return nil, err
		}
		if b["ends"] = t; t.IsZero() {
			delete(b, "ends")
			b["endless"] = true
		}
	}
	if len(b) == 0 {
		return nil, usage("nothing to change: say what, such as --level")
	}
	return b, nil
}

func publishedAs(f api.Folder) string {
	var names []string
	for _, s := range f.Shares {
		name := "SMB " + s.Name
		if s.ReadOnly {
			name += " (read-only)"
		}
		if !s.On {
			name += " (service off)"
		}
		names = append(names, name)
	}
	for _, e := range f.Exports {
		name := "NFS " + e.Path
		if e.Below != "" {
			name += " (from " + e.Below + " on)"
		}
		if e.Rules == 0 {
			name += " (no client rules)"
		}
		if !e.On {
			name += " (service off)"
		}
		names = append(names, name)
	}
	if len(names) == 0 {
		return "-"
	}
	return strings.Join(names, ", ")
}

// decides says what does, where it is not the entries in the usual way.
func decides(f api.Folder) string {
	switch {
	case f.Permissions == "unix" && f.Ownership == "native":
		return "owner, group, mode and POSIX ACL of each object, as on the host"
	case f.Permissions == "unix":
		return "owner, group, mode and POSIX ACL of each object, in extended attributes: amber mode show " + f.Name
	}
	return ""
}

func logged(f api.Folder) string {
	if f.LogAccess {
		return "tells who reads and writes which file"
	}
	return ""
}

func printFolder(w io.Writer, f api.Folder) {
	fields(w, "folder", f.Name, "description", f.Description, "volume", f.Volume+", at "+f.Path, "away", f.Away, "owner", f.Owner, "group", f.Group, "published as", publishedAs(f), "permissions", decides(f), "personal", personalText(f), "journal", logged(f), "labels", labelText(f.Labels))
	for _, p := range f.Places {
		fmt.Fprintln(w)
		printPlace(w, p, false)
	}
}

func personalText(f api.Folder) string {
	if f.Personal == nil {
		return ""
	}
	return "each of " + f.Personal.Group + " has a directory of their own, to " + f.Personal.Level
}

// noteOf is an entry's note, with its end date in front.
func noteOf(e api.Entry) string {
	if e.Own {
		return "as the folder is personal"
	}
	if e.Ends == nil {
		return e.Note
	}
	word := "until "
	if e.Ended {
		word = "ended, was until "
	}
	return strings.TrimSuffix(word+lastDay(*e.Ends)+"; "+e.Note, "; ")
}

// lastDay spells when something ends: as its last day where that is midnight.
func lastDay(t time.Time) string {
	if t = t.Local(); t.Hour() == 0 && t.Minute() == 0 {
		return t.AddDate(0, 0, -1).Format("2 Jan 2006")
	}
	return t.Format("2 Jan 2006 15:04")
}

// printPlace lists the entries of a path; those inherited only if asked.
func printPlace(w io.Writer, p api.Place, inherited bool) {
	fmt.Fprint(w, p.Path)
	if p.Cut {
		fmt.Fprint(w, "  (inherits nothing)")
	}
	fmt.Fprintln(w)
	t := newTable("", "entry", "", "who", "level", "applies to", "written on", "note")
	for i, e := range p.Entries {
		if i >= p.Explicit && !inherited {
			break
		}
		verb, from := "allow", "here"
		if e.Deny {
			verb = "deny"
		}
		if i >= p.Explicit {
			from = e.From
		}
		number := fmt.Sprint(e.ID)
		if e.Own {
			number = "-"
		}
		t.row("", number, verb, e.Who, e.Level, strings.Join(e.Applies, ", "), from, noteOf(e))
	}
	if len(t.rows) == 0 {
		fmt.Fprintln(w, "  no entries: nobody gets in")
		return
	}
	t.print(w)
}
