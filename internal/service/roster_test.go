package service

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/roster"
)

// A list is put in as one row of the journal, or not at all; again it is none; and it is taken back as one.
func TestImport(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	before := s.force.Load().records
	row := s.lastRow(t).Seq
	const good, wrong = "name,full name,groups,label\nlunt,Lunt Harrow,engineers,cohort=spring\ntomasz,T. Wilk,engineers staff,\n", "kit,Kit,nobody,\n"
	_, err := s.ImportUsers(ctx, keeper, RosterInput{File: []byte(good + wrong)})
	require.ErrorContains(t, err, `line 4, kit, is refused: there is no group "nobody"`)
	require.Equal(t, row, s.lastRow(t).Seq)
	require.Equal(t, before, s.force.Load().records)

	read, err := s.ReadRoster(RosterInput{File: []byte(good)})
	require.NoError(t, err)
	require.Equal(t, before, s.force.Load().records)
	made, err := s.ImportUsers(ctx, keeper, RosterInput{File: []byte(good + wrong), SkipWrong: true})
	require.NoError(t, err)
	require.Equal(t, read, made[:2], "what was said is what was done")
	require.Equal(t, roster.Refused, made[2].Act)
	require.Equal(t, row+1, s.lastRow(t).Seq)
	lunt, err := s.User("lunt")
	require.NoError(t, err)
	require.Equal(t, map[string]string{"cohort": "spring"}, lunt.Labels.Map())

	_, err = s.ImportUsers(ctx, keeper, RosterInput{File: []byte(good)})
	require.NoError(t, err)
	require.Equal(t, row+1, s.lastRow(t).Seq, "that is so already")
	for _, format := range []roster.Format{roster.CSV, roster.LDIF, roster.Passwd} {
		var b bytes.Buffer
		require.NoError(t, s.WriteRoster(&b, format))
		again, err := s.ReadRoster(RosterInput{File: b.Bytes(), Format: format})
		require.NoError(t, err)
		d := s.Policy().Directory
		want := len(d.Users())
		if format == roster.LDIF { // which has groups as well
			want += len(d.Groups())
		}
		require.Len(t, again, want)
		for _, o := range again {
			require.Equal(t, roster.Same, o.Act, "%s: %+v", format, o)
		}
	}

	for says, in := range map[string]RosterInput{
		"say within which group": {Gone: "disable"}, "is not one of": {Gone: "remove"}, "no group": {Gone: "disable", WithinGroup: "nobody"}, "KEY=VALUE": {WithinLabel: "a b"}, "cannot be read": {File: []byte("x")},
		"no administrator": {Gone: "disable", WithinLabel: "desk=console", File: []byte("name\nlunt\n")},
	} {
		if in.File == nil {
			in.File = []byte(good)
		}
		if strings.HasPrefix(in.WithinLabel, "desk") {
			_, err := s.UpdateUser(ctx, keeper, "keeper", UserChange{Labels: map[string]string{"desk": "console"}})
			require.NoError(t, err)
		}
		_, err := s.ImportUsers(ctx, keeper, in)
		require.ErrorContains(t, err, says)
	}
	_, err = s.ImportUsers(ctx, Actor{Name: "auditor", Role: "auditor"}, RosterInput{File: []byte(good)})
	require.ErrorContains(t, err, "may look but not change")

	_, err = s.Undo(ctx, keeper, []int64{row + 1})
	require.NoError(t, err)
	require.Nil(t, s.Policy().Directory.UserNamed("lunt"))
	require.Equal(t, before.Groups, s.force.Load().records.Groups)
}

// 10,000 people in a list: what would become of them, what that would do to whom, and doing it; beside the same rows written down bare.
func BenchmarkImport(b *testing.B) {
	ctx := context.Background()
	var list strings.Builder
	list.WriteString("name,full name,groups,mail,label\n")
	for i := range 10_000 {
		fmt.Fprintf(&list, "visitor%d,Visitor %d,g%d g%d,visitor%d@larkfell.example,cohort=spring\n", i, i, 1+i%900, 1+i%37, i)
	}
	in := RosterInput{File: []byte(list.String())}
	s := big(b, bigSite)
	for b.Loop() {
		previewed := typicalOf(3, func(int) {
			_, err := s.ReadRoster(in)
			require.NoError(b, err)
			draft, err := s.Preview(ctx, func(ctx context.Context, t *Service) error { _, err := t.ImportUsers(ctx, Itself, in); return err })
			require.NoError(b, err)
			s.Effect(draft)
		}, func() {})
		undo := func() {
			_, err := s.Undo(ctx, Itself, nil)
			require.NoError(b, err)
		}
		made := typicalOf(3, func(int) {
			_, err := s.ImportUsers(ctx, Itself, in)
			require.NoError(b, err)
		}, undo)
		_, err := s.ImportUsers(ctx, Itself, in)
		require.NoError(b, err)
		bare := commits(b, s, 3)
		again := typicalOf(3, func(int) {
			_, err := s.ImportUsers(ctx, Itself, in)
			require.NoError(b, err)
		}, func() {})
		undo()
		b.ReportMetric(previewed.Seconds(), "s/previewed")
		b.ReportMetric(made.Seconds(), "s/made")
		b.ReportMetric(ratio(made, bare), "made/bare")
		b.ReportMetric(again.Seconds(), "s/again")
	}
}
