package contain_test

import (
	"bytes"
	"log/slog"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/contain"
)

func TestAPanicEndsItsOwnGoroutineOnly(t *testing.T) {
	var said bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&said, nil)))
	defer slog.SetDefault(before)
	var group sync.WaitGroup
	contain.Go(&group, "a test", func() { panic("on purpose") })
	group.Wait()
	require.Contains(t, said.String(), "on purpose")
	require.Contains(t, said.String(), "a test")
	require.Contains(t, said.String(), "contain_test.go", "where it was")
}
