package files

import "golang.org/x/sys/unix"

// MayGive says whether the process may give files away and work in directories of others, as ownership of the host's own takes: as root, or by the
// capabilities CAP_CHOWN, CAP_DAC_OVERRIDE and CAP_FOWNER (capabilities(7)).
func MayGive() bool {
	var data [2]unix.CapUserData
	if err := unix.Capget(&unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}, &data[0]); err != nil {
		return unix.Geteuid() == 0
	}
	const needs = 1<<unix.CAP_CHOWN | 1<<unix.CAP_DAC_OVERRIDE | 1<<unix.CAP_FOWNER
	return data[0].Effective&needs == needs
}
