package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/gateway"
)

// The stock Linux kernel's own client does real work, on every dialect: see test/lab.
func TestKernelClient(t *testing.T) {
	switch _, err := exec.LookPath("apt-get"); {
	case runtime.GOARCH != "amd64" || err != nil:
		t.Skip("the lab's guest is built from Debian's amd64 packages")
	case os.Geteuid() != 0:
		t.Skip("the lab installs qemu: it takes root")
	case os.Getenv("AMBER_LAB") == "off":
		t.Skip("AMBER_LAB=off")
	}
	if out, err := exec.Command("lab/build").CombinedOutput(); err != nil {
		t.Skipf("the lab cannot be built here: %s", out)
	}
	script, err := os.ReadFile("lab/smb.sh")
	require.NoError(t, err)
	for version := range dialects {
		t.Run(version, func(t *testing.T) {
			t.Parallel()
			g := gateway.Start(t)
			_, port, _ := strings.Cut(g.SMB, ":")
			job := filepath.Join(t.TempDir(), "job")
			require.NoError(t, os.WriteFile(job, []byte("PORT="+port+" VERSION="+version+"\n"+string(script)), 0o600))
			out, err := exec.Command("lab/run", job, "600").CombinedOutput()
			require.NoError(t, err, "%s", out)
			t.Logf("%s", out)
		})
	}
}
