package logging

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// The level can be changed while it is logged, also for logs that were made from it before.
func TestTheLevelChanges(t *testing.T) {
	var out bytes.Buffer
	l, err := Open(&out, "stderr", "json", "info")
	require.NoError(t, err)
	of := l.With("service", "nfs")
	of.Debug("moon")
	require.Empty(t, out.String())
	require.NoError(t, l.SetLevel("debug"))
	require.Equal(t, "debug", l.Level())
	of.Debug("moon", "phase", 3)
	var line map[string]any
	require.NoError(t, json.Unmarshal(out.Bytes(), &line))
	require.Equal(t, "nfs", line["service"])
	require.Equal(t, "moon", line["msg"])
	require.Error(t, l.SetLevel("loud"))
	require.Equal(t, "debug", l.Level())
	out.Reset()
	l, err = Open(&out, "stderr", "text", "warn")
	require.NoError(t, err)
	l.Info("moon")
	require.Empty(t, out.String())
	_, err = Open(&out, "stderr", "text", "loud")
	require.Error(t, err)
}

// Fields are spelled as journald takes them.
func TestFieldsOfJournald(t *testing.T) {
	for key, want := range map[string]string{"service": "AMBER_SERVICE", "in work": "AMBER_IN_WORK", "_x": "AMBER_X", "größe": "AMBER_GR__E", "": "AMBER_"} {
		require.Equal(t, want, field(key), key)
	}
}
