package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
)

var profiles = resource[api.Profile]{
	one: "profile", many: "profiles", route: "profiles/", arg: "PROFILE",
	head: []string{"name", "people", "groups", "may use", "role", "limit", "ends after", "description"}, empty: "no profiles yet: amber profile add NAME", wrapLast: true,
	row: func(p api.Profile) []string {
		return []string{p.Name, fmt.Sprint(p.People), strings.Join(p.Groups, ", "), profileServices(p), p.Role, profileLimit(p), profileEnds(p), p.Description}
	},
	print: printProfile, removes: "This removes the profile %s.",
}

func profileServices(p api.Profile) string {
	return strings.Join(namesThat(map[string]bool{"SMB": p.SMB, "NFS": p.NFS, "the console": p.Console}), ", ")
}

func profileLimit(p api.Profile) string {
	if p.HardBytes == nil {
		return ""
	}
	return limit.FormatSize(*p.HardBytes)
}

func profileEnds(p api.Profile) string {
	if p.EndsAfter == 0 {
		return ""
	}
	return fmt.Sprintf("%d days", p.EndsAfter)
}

func printProfile(w io.Writer, p api.Profile) {
	fields(w, "profile", p.Name, "description", p.Description, "people", fmt.Sprint(p.People), "groups", strings.Join(p.Groups, ", "), "may use", profileServices(p), "role", p.Role, "limit", profileLimit(p), "ends after", profileEnds(p))
}

func profileFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "description", Usage: "whom it is for"},
		&cli.StringSliceFlag{Name: "group", Usage: "a group that they are in; again for more, none for none"},
		&cli.StringFlag{Name: "smb", Usage: "on or off: whether they may use SMB"},
		&cli.StringFlag{Name: "nfs", Usage: "on or off: whether they may use NFS"},
		&cli.StringFlag{Name: "console", Usage: "on or off: whether they may sign in to the console for what is theirs"},
		&cli.StringFlag{Name: "role", Usage: "administrator, operator or auditor; none for most"},
		&cli.StringFlag{Name: "hard", Usage: "how much each may store in all, such as 2GB; none for no limit"},
		&cli.StringFlag{Name: "ends-after", Usage: "after so many days their accounts end; never for never"},
	}
}

func fillProfile(cmd *cli.Command, b body) error {
	given(cmd, b.put, "description", "role", "hard")
	if b["role"] == "none" {
		b["role"] = ""
	}
	if groups := cmd.StringSlice("group"); cmd.IsSet("group") {
		b["groups"] = noneOr(groups)
	}
	return cmp.Or(switches(cmd, b, "smb", "nfs", "console"), days(cmd, b, "ends-after", "endsAfter"))
}

// days puts a number of days that a flag says, 0 for never, into what the API takes.
func days(cmd *cli.Command, b body, flag, field string) error {
	text := cmd.String(flag)
	if !cmd.IsSet(flag) {
		return nil
	}
	n, err := strconv.Atoi(strings.TrimSuffix(text, "d"))
	if err != nil && text != "never" {
		return usage("--%s takes a number of days, or never, not %q", flag, text)
	}
	b[field] = n
	return nil
}

func (a *app) profileCommand() *cli.Command {
	return group("profile", "named sets of what people are given: groups, services, a role, a limit, and for how long",
		a.leaf("add", "add a profile", "PROFILE", profileFlags(), func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{"name": args[0]}
			if err := fillProfile(cmd, b); err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPost, "profiles", nil, b, printProfile)
		}),
		profiles.list(a, "list the profiles"), profiles.show(a, "show a profile"), profiles.remove(a),
		profiles.set(a, "change a profile, and all who have it", "what, such as --group", append(profileFlags(), nameFlag(),
			&cli.BoolFlag{Name: "only-new", Usage: "who has the profile already stays as they are"},
		), func(cmd *cli.Command, b body) error {
			given(cmd, b.put, "name")
			if cmd.Bool("only-new") {
				b["onlyNew"] = true
			}
			return fillProfile(cmd, b)
		}),
		a.leaf("apply", "give all who have a profile what it says, as far as they have something else by now", "PROFILE", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.client.call(ctx, http.MethodPost, "profiles/"+escape(args[0])+"/apply", nil, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "all who have the profile %s have what it says", args[0])
		}),
	)
}
