package site

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// What was added goes from the end of each kind, so that nothing has to move up; all else keeps its place.
func TestWhatWasAddedGoesLastFirst(t *testing.T) {
	is := json.RawMessage(`{}`)
	changes := []Change{
		{Kind: "user", ID: 3}, {Kind: "group", ID: 7, Before: is}, {Kind: "user", ID: 9}, {Kind: "group", ID: 2}, {Kind: "user", ID: 4, Before: is}, {Kind: "user", ID: 5}, {Kind: "group", ID: 8},
	}
	want := []Change{
		{Kind: "user", ID: 9}, {Kind: "group", ID: 7, Before: is}, {Kind: "user", ID: 5}, {Kind: "group", ID: 8}, {Kind: "user", ID: 4, Before: is}, {Kind: "user", ID: 3}, {Kind: "group", ID: 2},
	}
	lastFirst(changes)
	require.Equal(t, want, changes)
}
