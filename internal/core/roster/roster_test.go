package roster

import (
	"encoding/csv"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

func observatory() site.Records {
	return site.Records{
		Users: []identity.User{{ID: 1, Name: "wren", FullName: "Wren Aldous", UID: 2001, SMB: true, NFS: true}, {ID: 2, Name: "piran", UID: 2003, Primary: 1, SMB: true},
			{ID: 3, Name: "corin", UID: 2007, Disabled: true}},
		Groups: []identity.Group{{ID: 1, Name: "observers", GID: 3001}, {ID: 2, Name: "staff", GID: 3000, Members: []identity.Principal{identity.UserPrincipal(1), identity.GroupPrincipal(1)}}},
	}
}

var plainRules = Rules{
	Name: func(name string) error {
		if strings.ContainsAny(name, " /") || name == "" {
			return fmt.Errorf("%q is no name", name)
		}
		return nil
	},
	Mail: func(address string) error {
		if !strings.Contains(address, "@") {
			return errors.New("no address")
		}
		return nil
	},
}

// put reads a list and puts it into some records.
func put(t require.TestingT, r site.Records, raw []byte, o Options, gone GoneRule) ([]Outcome, site.Records) {
	people, err := Read(raw, o)
	require.NoError(t, err)
	dir, err := identity.Compile(r.Users, r.Groups)
	require.NoError(t, err)
	d := site.NewDraft(r, nil)
	out := Put(d, dir, people, plainRules, gone, time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC))
	require.Nil(t, d.Check())
	return out, d.Records()
}

func acts(out []Outcome) (acts []string) {
	for _, o := range out {
		acts = append(acts, fmt.Sprint(o.Line, " ", o.Name, " ", o.Act))
	}
	return acts
}

// The same list says the same whatever it is written in.
func TestEncodingsAndDelimiters(t *testing.T) {
	const list = "Name,FULL_NAME,groups\nlóunt,Lünt Harrow,staff\npiran,\"Keast, Piran\",\n"
	want, after := put(t, observatory(), []byte(list), Options{}, GoneRule{})
	require.Equal(t, []string{"2 lóunt made", "3 piran changed"}, acts(want))
	require.Equal(t, "Keast, Piran", after.Users[1].FullName)
	require.Contains(t, after.Groups[1].Members, identity.UserPrincipal(4))
	utf16 := func(of unicode.Endianness) []byte {
		raw, err := unicode.UTF16(of, unicode.UseBOM).NewEncoder().Bytes([]byte(list))
		require.NoError(t, err)
		return raw
	}
	old, err := charmap.Windows1252.NewEncoder().Bytes([]byte(list))
	require.NoError(t, err)
	for what, raw := range map[string][]byte{"a mark": []byte("\ufeff" + list), "UTF-16LE": utf16(unicode.LittleEndian), "UTF-16BE": utf16(unicode.BigEndian), "Windows-1252": old,
		"CRLF": []byte(strings.ReplaceAll(list, "\n", "\r\n")), "semicolons": []byte(strings.NewReplacer("Name,FULL_NAME,groups", "Name;FULL_NAME;groups", "lóunt,Lünt Harrow,staff", "lóunt;Lünt Harrow;staff", "piran,\"Keast, Piran\",", "piran;Keast, Piran;").Replace(list)),
		"tabs": []byte(strings.NewReplacer("Name,FULL_NAME,groups", "Name\tFULL_NAME\tgroups", "lóunt,Lünt Harrow,staff", "lóunt\tLünt Harrow\tstaff", "piran,\"Keast, Piran\",", "piran\tKeast, Piran\t").Replace(list))} {
		got, is := put(t, observatory(), raw, Options{}, GoneRule{})
		require.Equal(t, want, got, what)
		require.Equal(t, after, is, what)
	}
}

func TestWhatIsNoList(t *testing.T) {
	for says, raw := range map[string]string{
		"nobody": "", "nobody in it": "name,uid\n", "none of name": "name,colour\nwren,red\n", "is the name": "uid,mail\n1,a@b\n", "two of its columns": "name,Name\na,b\n",
		"never closed": "name,full name\nwren,\"Wren\npiran,Piran\n", "no text": "name\x00", "UTF-16": "\xff\xfea",
	} {
		_, err := Read([]byte(raw), Options{})
		require.ErrorContains(t, err, says, "%q", raw)
	}
	_, err := Read([]byte("name\n"+strings.Repeat("a\n", MostLines+1)), Options{})
	require.ErrorContains(t, err, "more than")
	_, err = Read([]byte("Login\nwren\n"), Options{Columns: map[string]string{"Login": "name", "Mailbox": "mail"}})
	require.ErrorContains(t, err, "no column \"mailbox\"")
	_, err = Read([]byte("Login\nwren\n"), Options{Columns: map[string]string{"Login": "colour"}})
	require.ErrorContains(t, err, "colour")
}

// What is wrong with a line is said there, and it alters nothing; the others go on.
func TestLinesThatAreRefused(t *testing.T) {
	for line, why := range map[string]string{
		"a b,,,,,,":                      "no name",
		",,,,,,":                         "no name",
		"lunt,x,,,,,":                    "is no number",
		"lunt,-1,,,,,":                   "is no number",
		"lunt,4294967296,,,,,":           "is no number",
		"lunt,0,,,,,":                    "kept for the system",
		"lunt,65534,,,,,":                "kept for the system",
		"lunt,4294967295,,,,,":           "kept for the system",
		"lunt,2001,,,,,":                 "wren's",
		"wren,2003,,,,,":                 "piran's",
		"lunt,,nobody,,,,":               "no group \"nobody\"",
		"lunt,,,staff nobody,,,":         "no group \"nobody\"",
		"lunt,,,,me,,":                   "no address",
		"lunt,,,,,soon,":                 "no day",
		"lunt,,,,,2026-13-01,":           "no day",
		"lunt,,,,,,season":               "KEY=VALUE",
		"lunt,,,,,,a b=c":                "use 1 to 32",
		"lunt,,,":                        "4 columns",
		"\"lu\u202ent\",,,,x,,":          "no address",
		"wren,,,,\"a\x1b@b\",,":          "mail",
		"Piran2,2222,,,,,\npiran2,,,,,,": "line 2 is of",
		"a,2222,,,,,\nb,2222,,,,,":       "uid 2222 is that of line 2",
	} {
		before := observatory()
		out, after := put(t, before, []byte("name,uid,group,groups,mail,ends,label\n"+line+"\nisolde,,observers,staff,i@x,2031-01-01,team=dome\n"), Options{}, GoneRule{})
		i := slices.IndexFunc(out, func(o Outcome) bool { return o.Act == Refused })
		require.GreaterOrEqual(t, i, 0, "%q: %v", line, acts(out))
		require.Contains(t, out[i].Why, why, "%q", line)
		require.Equal(t, Made, out[len(out)-1].Act, "%q", line)
		last := after.Users[len(after.Users)-1]
		require.Equal(t, "isolde", last.Name)
		require.EqualValues(t, 1, last.Primary)
		require.Equal(t, time.Date(2031, 1, 2, 0, 0, 0, 0, time.UTC), last.Expires)
		require.Equal(t, map[string]string{"team": "dome"}, last.Labels.Map())
		require.Equal(t, before.Users[:3], after.Users[:3], "%q", line)
	}
}

// A list that is put in twice changes nothing the second time; what it does not say stays; and numbers are nobody else's.
func TestAListIsPutInOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := []string{"name"}
		for _, word := range columns[1:] {
			if rapid.Bool().Draw(t, word) {
				words = append(words, word)
			}
		}
		words = rapid.Permutation(words).Draw(t, "order")
		var b strings.Builder
		list := csv.NewWriter(&b)
		list.Comma = ';'
		require.NoError(t, list.Write(words))
		names := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"wren", "piran", "corin", "lunt", "isolde", "orla", "tomasz"}), 1, 5, rapid.ID).Draw(t, "names")
		for i, name := range names {
			cells := make([]string, len(words))
			for j, word := range words {
				cells[j] = map[string]string{
					"name": name, "full name": rapid.SampledFrom([]string{"", "Somebody", "=SUM(A1)"}).Draw(t, "full"), "uid": rapid.SampledFrom([]string{"", fmt.Sprint(5000 + i), fmt.Sprint(1000 + i)}).Draw(t, "uid"),
					"group": rapid.SampledFrom([]string{"", "staff", "Observers"}).Draw(t, "group"), "groups": rapid.SampledFrom([]string{"", "staff", "staff observers", "observers|staff"}).Draw(t, "groups"),
					"mail": rapid.SampledFrom([]string{"", "a@b"}).Draw(t, "mail"), "ends": rapid.SampledFrom([]string{"", "never", "2031-05-31"}).Draw(t, "ends"),
					"label": rapid.SampledFrom([]string{"", "season=spring", "season=;team=dome"}).Draw(t, "label"),
				}[word]
			}
			require.NoError(t, list.Write(cells))
		}
		list.Flush()
		text := b.String()
		before := observatory()
		first, after := put(t, before, []byte(text), Options{}, GoneRule{})
		for _, o := range first {
			require.NotEqual(t, Refused, o.Act, "%s: %s", o.Name, o.Why)
		}
		second, again := put(t, after, []byte(text), Options{}, GoneRule{})
		for _, o := range second {
			require.Equal(t, Same, o.Act, "%+v", o)
		}
		require.Equal(t, after, again)
		uids := make(map[uint32]bool)
		for _, u := range after.Users {
			require.False(t, uids[u.UID], "uid %d is two people's", u.UID)
			uids[u.UID] = true
			if i := slices.IndexFunc(before.Users, func(was identity.User) bool { return was.ID == u.ID }); i >= 0 && !slices.Contains(names, u.Name) {
				require.Equal(t, before.Users[i], u)
			}
		}
	})
}

func TestWhoIsGone(t *testing.T) {
	within := func(u *identity.User) bool { return u.UID < 2005 }
	out, after := put(t, observatory(), []byte("name\nwren\n"), Options{}, GoneRule{Within: within})
	require.Equal(t, []string{"2 wren same", "0 piran gone"}, acts(out))
	require.False(t, after.Users[1].Disabled)
	out, after = put(t, observatory(), []byte("name,uid\nwren,2003\n"), Options{}, GoneRule{Within: within, Disable: true})
	require.Equal(t, []string{"2 wren refused", "0 piran gone"}, acts(out), "who is refused is not gone")
	require.True(t, after.Users[1].Disabled)
	require.False(t, after.Users[0].Disabled)
}

func TestPasswdAndLDIF(t *testing.T) {
	out, after := put(t, observatory(), []byte("root:x:0:0:root:/root:/bin/sh\n# a comment\nlunt:x:2100:3001:Lunt Harrow,,,:/home/lunt:/bin/sh\nkit:x:2101:4711::/home/kit:/bin/sh\nodd:x:2102\n"), Options{Format: Passwd}, GoneRule{})
	require.Equal(t, []string{"3 lunt made", "4 kit refused", "5 odd refused"}, acts(out))
	require.EqualValues(t, 1, after.Users[3].Primary)
	out, after = put(t, observatory(), []byte("version: 1\n\n# people\ndn: uid=lunt,ou=people\nobjectClass: posixAccount\nuid: lunt\ncn:: THVudCBIYXJy\n b3c=\nuidNumber: 2100\ngidNumber: 3001\nmail: lunt@larkfell.example\n\n"+
		"dn: cn=observers,ou=groups\ncn: observers\n\ndn: uid=kit\nuid: kit\ncn:: %%%\n\ndn: uid=odd\nuid: odd\nchangetype: delete\n\ndn: uid=far\nuid: far\njpegPhoto:< file:///etc/passwd\n"), Options{}, GoneRule{})
	require.Equal(t, []string{"4 lunt made", "16  refused", "20  refused", "24  refused"}, acts(out))
	require.Equal(t, "Lunt Harrow", after.Users[3].FullName)
	require.EqualValues(t, 2100, after.Users[3].UID)
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"name,uid\nwren,1\n", "dn: uid=a\nuid: a\n", "a:x:1:1:::\n", "\xff\xfen\x00", "name\n\"", "name;groups\na;b c\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		people, err := Read(raw, Options{})
		if err != nil {
			return
		}
		r := observatory()
		dir, err := identity.Compile(r.Users, r.Groups)
		require.NoError(t, err)
		d := site.NewDraft(r, nil)
		Put(d, dir, people, plainRules, GoneRule{}, time.Now())
		require.Nil(t, d.Check())
	})
}

// People and groups of one LDIF: a group may be somebody's primary one and have somebody in it who are both of the same file, in whatever order.
func TestLDIFOfPeopleAndGroups(t *testing.T) {
	put := func(r site.Records, text string) ([]Outcome, site.Records) {
		dir, err := identity.Compile(r.Users, r.Groups)
		require.NoError(t, err)
		people, err := Read([]byte(text), Options{})
		if err != nil {
			require.ErrorIs(t, err, ErrEmpty)
		}
		groups, err := ReadLDIFGroups([]byte(text))
		require.NoError(t, err)
		d := site.NewDraft(r, nil)
		out, err := PutLDIF(d, dir, people, groups, plainRules, GoneRule{}, time.Now())
		require.NoError(t, err)
		require.Nil(t, d.Check())
		return out, d.Records()
	}
	text := "dn: uid=lunt,ou=people\nobjectClass: posixAccount\nuid: lunt\ncn: Lunt\nuidNumber: 2100\ngidNumber: 3500\n\n" +
		"dn: cn=night,ou=groups\nobjectClass: top\nobjectClass: posixGroup\ncn: night\ngidNumber: 3500\nmemberUid: wren\nmemberUid: lunt\n\n" +
		"dn: cn=observers,ou=groups\ncn: observers\ngidNumber: 3001\nmemberUid: lunt\n\n" +
		"dn: cn=wheel,ou=groups\ncn: wheel\ngidNumber: 10\nmemberUid: nobody-here\n\n" +
		"dn: cn=night2\ncn: night2\ngidNumber: 3500\n\ndn: cn=odd\ncn: odd\ngidNumber: many\n\ndn: cn=far\ncn: far\ngidNumber: 3600\nmemberUid: nobody-here\n\ndn: cn=gone\ncn: gone\ngidNumber: 3700\nchangetype: delete\n"
	out, after := put(observatory(), text)
	require.Equal(t, []string{"1 lunt made", "8 night made", "16 observers changed", "26 night2 refused", "30 odd refused", "34 far refused", "39 gone refused"}, acts(out))
	dir, err := identity.Compile(after.Users, after.Groups)
	require.NoError(t, err)
	lunt, night := dir.UserNamed("lunt"), dir.GroupNamed("night")
	require.Equal(t, night.ID, lunt.Primary)
	require.True(t, dir.Member(dir.UserIndex(dir.UserNamed("wren").ID), dir.GroupIndex(night.ID)))
	require.True(t, dir.Member(dir.UserIndex(lunt.ID), dir.GroupIndex(dir.GroupNamed("observers").ID)))
	again, _ := put(after, text)
	require.Equal(t, []string{"1 lunt same", "8 night same", "16 observers same", "26 night2 refused", "30 odd refused", "34 far refused", "39 gone refused"}, acts(again))

	// What is written out is read again, and changes nothing, though some are in groups through others.
	after.Groups = append(after.Groups, identity.Group{ID: 900, Name: "all", GID: 3900, Members: []identity.Principal{identity.GroupPrincipal(night.ID)}})
	dir, err = identity.Compile(after.Users, after.Groups)
	require.NoError(t, err)
	for _, format := range []Format{LDIF, Groups} {
		written, err := Write(dir, nil, format)
		require.NoError(t, err)
		if format == Groups {
			groups, err := ReadGroups(written)
			require.NoError(t, err)
			for _, o := range PutGroups(site.NewDraft(after, nil), dir, groups, plainRules) {
				require.Equal(t, Same, o.Act, o.Name)
			}
			continue
		}
		out, _ = put(after, string(written))
		require.Len(t, out, len(after.Users)+len(after.Groups))
		for _, o := range out {
			require.Equal(t, Same, o.Act, "%s %v", o.Name, o)
		}
	}
	out, _ = put(after, "dn: cn=all\ncn: all\ngidNumber: 3900\nmemberUid: wren\n")
	require.Equal(t, []string{"1 all same"}, acts(out), "who is in it through another is in it")
}
