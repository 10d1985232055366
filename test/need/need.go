// Package need is for tests that need something which not every machine has. They are skipped where it is
// missing, and fail where nothing may be: with CI=true.
package need

import (
	"os"
	"testing"
)

// Missing skips a test for want of something, or fails it where nothing may be wanting.
func Missing(t testing.TB, format string, args ...any) {
	t.Helper()
	if os.Getenv("CI") == "true" {
		t.Fatalf(format, args...)
	}
	t.Skipf(format, args...)
}
