package service

import (
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
)

// operator is somebody who looks after people and is no administrator.
var operator = Actor{Name: "tern", Role: identity.Operator}

func refusedTo(t *testing.T, err error, says string) {
	t.Helper()
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, Forbidden, e.Kind)
	require.Contains(t, e.Message, says)
}

// An operator gives nobody a number that stands for somebody on every client. An administrator may.
func TestReservedNumbers(t *testing.T) {
	ctx := t.Context()
	for _, number := range []uint32{0, 1, 999, 65534} {
		s := camp(t)
		_, err := s.CreateUser(ctx, operator, UserInput{Name: "finch", UID: &number})
		refusedTo(t, err, "reserved")
		require.Nil(t, s.Policy().Directory.UserNamed("finch"))
		_, err = s.CreateGroup(ctx, operator, GroupInput{Name: "finches", GID: &number})
		refusedTo(t, err, "reserved")
		_, err = s.CreateUser(ctx, operator, UserInput{Name: "finch"})
		require.NoError(t, err)
		_, err = s.UpdateUser(ctx, operator, "finch", UserChange{UID: &number})
		refusedTo(t, err, "reserved")
		_, err = s.UpdateUser(ctx, keeper, "finch", UserChange{UID: &number})
		require.NoError(t, err, "an administrator may give %d", number)
	}
	s := camp(t)
	for _, number := range []uint32{1000, 65533, 65535} {
		_, err := s.CreateUser(ctx, operator, UserInput{Name: "finch", UID: &number})
		require.NoError(t, err)
		require.NoError(t, s.RemoveUser(ctx, keeper, "finch"))
	}
}

// A password that somebody had is not told from any other by whoever may not set it.
func TestPasswordsAreNoOracle(t *testing.T) {
	ctx := t.Context()
	s := camp(t)
	_, err := s.CreateUser(ctx, keeper, UserInput{Name: "heron", Password: "the heron stands still", Role: identity.Administrator})
	require.NoError(t, err)
	right := s.SetPassword(ctx, operator, "heron", "the heron stands still", false)
	wrong := s.SetPassword(ctx, operator, "heron", "another password of hers", false)
	weak := s.SetPassword(ctx, operator, "heron", "x", false)
	refusedTo(t, right, "heron")
	require.Equal(t, right, wrong)
	require.Equal(t, right, weak)
}

// Who decides about permissions by a group is put into it by an administrator only: directly, by a primary group, or by a group in it.
func TestOperatorsGiveNoControl(t *testing.T) {
	ctx := t.Context()
	s := camp(t)
	for _, name := range []string{"stewards", "inner", "plain"} {
		_, err := s.CreateGroup(ctx, keeper, GroupInput{Name: name})
		require.NoError(t, err)
	}
	require.NoError(t, s.AddMember(ctx, keeper, "stewards", "group:inner"))
	_, err := s.AddEntry(ctx, keeper, "nightlog", EntryInput{Who: "stewards", Level: "read_acl,write_acl"})
	require.NoError(t, err)

	_, err = s.CreateUser(ctx, operator, UserInput{Name: "finch"})
	require.NoError(t, err)
	refusedTo(t, s.AddMember(ctx, operator, "stewards", "finch"), "decides about the permissions of nightlog")
	refusedTo(t, s.AddMember(ctx, operator, "inner", "finch"), "decides about the permissions of nightlog")
	refusedTo(t, s.AddMember(ctx, operator, "stewards", "group:plain"), "decides about the permissions of nightlog")
	_, err = s.UpdateUser(ctx, operator, "finch", UserChange{Primary: new("inner")})
	refusedTo(t, err, "decides about the permissions of nightlog")
	_, err = s.CreateUser(ctx, operator, UserInput{Name: "wagtail", Primary: "stewards"})
	refusedTo(t, err, "decides about the permissions of nightlog")
	require.NoError(t, s.AddMember(ctx, operator, "plain", "finch"))
	require.NoError(t, s.AddMember(ctx, keeper, "stewards", "finch"))
}
