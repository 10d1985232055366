package doctor

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
)

// clock looks whether the clock is kept right, and whether it has gone back.
func (m *Machine) clock(written time.Time) Finding {
	f := Finding{What: "clock", State: Well, Says: "is kept right by a time service", Next: "timedatectl"}
	var tx unix.Timex
	state, err := unix.Adjtimex(&tx)
	switch {
	case written.After(m.Now().Add(time.Minute)):
		f.State, f.Says = Wrong, fmt.Sprintf("has gone back: the journal was written at %s, which is to come", written.UTC().Format("2 Jan 2006 15:04 UTC"))
	case m.Now().Year() < 2024:
		f.State, f.Says = Wrong, "is off: it says "+m.Now().UTC().Format("2 Jan 2006")
	case err != nil:
		f.Says, f.Next = "whether it is kept right cannot be told", ""
	case state == unix.TIME_ERROR || tx.Status&unix.STA_UNSYNC != 0:
		f.State, f.Says = Mind, "is kept right by nobody: one-time codes and the times of files go wrong when it drifts"
	default:
		f.Next = ""
	}
	return f
}

// kernel looks for what the kernel and the file system of the state directory have to have.
func (m *Machine) kernel(state string) []Finding {
	out := []Finding{{What: "openat2", State: Well, Says: "the kernel has it"}}
	if fd, err := unix.Openat2(unix.AT_FDCWD, "/", &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_NO_SYMLINKS}); err != nil {
		out[0] = Finding{What: "openat2", State: Wrong, Says: "the kernel does not have it, or it is filtered out: paths could not be kept within folders. It is there from Linux 5.6 on", Next: "uname -r"}
	} else {
		unix.Close(fd)
	}
	return append(out, attributes(stateDirectory, state))
}

// attributes looks whether a directory of the service's own keeps extended attributes.
func attributes(what, dir string) Finding {
	f := Finding{What: "extended attributes in " + what, State: Well, Says: "are kept"}
	if _, err := os.Stat(dir); os.IsNotExist(err) {
		f.Says = "are looked at once it is made, at the first start"
		return f
	}
	tmp, err := os.CreateTemp(dir, ".looked-at-*")
	if err != nil {
		f.State, f.Says, f.Next = Mind, "nothing can be written there: "+plain.Reason(err), "ls -ld "+plain.Word(dir)
		return f
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	if err := unix.Fsetxattr(int(tmp.Fd()), "user.amber.looked", []byte("1"), 0); err != nil {
		f.State, f.Says, f.Next = Mind, "are not kept: "+plain.Reason(err), "findmnt -T "+plain.Word(dir)
	}
	return f
}

// enough is how many files the process should be able to open.
const enough = 65_536

func (m *Machine) descriptors() Finding {
	f := Finding{What: "open files", State: Well}
	var is unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &is); err != nil {
		f.Says = "how many there may be cannot be told"
		return f
	}
	f.Says = fmt.Sprintf("the process may have %d at once", is.Cur)
	if is.Cur < enough {
		f.State = Mind
		f.Says += fmt.Sprintf("; with many clients that is few, %d is enough", enough)
		f.Next = fmt.Sprintf("systemctl edit amber-gatekeeper, with LimitNOFILE=%d", 4*enough)
	}
	return f
}

// Kinds of file systems, by their numbers (statfs(2)), and what is to be minded about them.
var kinds = map[int64]struct{ name, mind string }{
	0x6969:     {"NFS", "is on another machine over NFS: locks and extended attributes depend on it, and when it is away all wait"},
	0xff534d42: {"SMB", "is on another machine over SMB: owners and extended attributes are not kept there"}, 0xfe534d42: {"SMB", "is on another machine over SMB: owners and extended attributes are not kept there"},
	0x01021997: {"9P", "is on another machine over 9P: owners and extended attributes may not be kept there"},
	0x65735546: {"FUSE", "is served by a program (FUSE): what it does not pass on, such as extended attributes, is lost"},
	0x01021994: {"memory", "is in memory: all of it is lost at the next start of the machine"},
	0x794c7630: {"overlay", "is an overlay, as of a container: without a volume of its own all of it is lost with that"},
	0x4d44:     {"FAT", "is FAT: it keeps neither owners nor extended attributes"}, 0x5346544e: {"NTFS", "is NTFS: owners and extended attributes depend on how it is mounted"},
}

const stateDirectory = "the state directory"

// volumes looks at the file system of each volume and of the state directory.
func (m *Machine) volumes(s Subject) (out []Finding) {
	for _, v := range append([]Volume{{Name: "", Path: s.State}}, s.Volumes...) {
		what := stateDirectory
		if v.Name != "" {
			what = "volume " + v.Name
		}
		if v.Away != "" {
			out = append(out, Finding{what, Wrong, "is away: " + v.Away, "amber volume show " + plain.Word(v.Name)})
			continue
		}
		out = append(out, fileSystem(what, v.Path)...)
		if v.Name != "" {
			if names, err := unix.Listxattr(v.Path, nil); err != nil || names < 0 {
				out = append(out, Finding{what, Wrong, "extended attributes cannot be read there: " + plain.Reason(err), "findmnt -T " + plain.Word(v.Path)})
			}
		}
	}
	return out
}

func fileSystem(what, path string) (out []Finding) {
	done := make(chan []Finding, 1)
	go func() { done <- statFileSystem(what, path) }() // a disk that does not answer holds up nobody else
	select {
	case out = <-done:
	case <-time.After(patience):
		out = []Finding{{what, Wrong, "its disk does not answer", "findmnt -T " + plain.Word(path)}}
	}
	return out
}

func statFileSystem(what, path string) (out []Finding) {
	var st unix.Statfs_t
	err := unix.Statfs(path, &st)
	if err == unix.ENOENT && what == stateDirectory {
		return []Finding{{what, Well, "is made at the first start", ""}}
	}
	if err != nil {
		return []Finding{{what, Wrong, "cannot be looked at: " + plain.Reason(err), "ls -ld " + plain.Word(path)}}
	}
	where := Finding{what, Well, "is on a disk of this machine", ""}
	if kind, ok := kinds[int64(st.Type)]; ok {
		where = Finding{what, Mind, kind.mind, "findmnt -T " + plain.Word(path)}
	}
	out = append(out, where)
	if st.Flags&unix.ST_RDONLY != 0 {
		out = append(out, Finding{what, Wrong, "is mounted so that it can only be read", "findmnt -T " + plain.Word(path)})
	}
	room := Finding{"room of " + what, Well, "", "df -h " + plain.Word(path)}
	free, total := st.Bavail*uint64(st.Bsize), st.Blocks*uint64(st.Bsize)
	if os.Geteuid() == 0 { // what is kept back for root is there as well
		free = st.Bfree * uint64(st.Bsize)
	}
	room.Says = limit.FormatSize(int64(min(free, 1<<62))) + " free of " + limit.FormatSize(int64(min(total, 1<<62)))
	switch {
	case total > 0 && free*50 < total:
		room.State = Wrong
	case total > 0 && free*10 < total:
		room.State = Mind
	case st.Files > 0 && st.Ffree*50 < st.Files:
		room.State, room.Says, room.Next = Mind, fmt.Sprintf("%d more files fit in", st.Ffree), "df -i "+plain.Word(path)
	default:
		room.Next = ""
	}
	return append(out, room)
}

// denied are lines of what the kernel or its audit logged about this program: of SELinux and AppArmor.
var denied = regexp.MustCompile(`(?:avc: +denied|apparmor="DENIED").*(?:comm="amber"|amber-gatekeeper|/usr/bin/amber)`)

// security looks whether something keeps the service from what it does.
func (m *Machine) security() []Finding {
	selinux := strings.TrimSpace(m.read("/sys/fs/selinux/enforce")) == "1"
	confined := strings.TrimSpace(m.read("/proc/self/attr/current"))
	apparmor := strings.HasPrefix(m.read("/sys/module/apparmor/parameters/enabled"), "Y") && confined != "" && !strings.HasPrefix(confined, "unconfined")
	f := Finding{What: "SELinux and AppArmor", State: Well, Says: "neither keeps this program from anything"}
	switch {
	case selinux:
		f.Says = "SELinux is enforced; no denial of this program is known"
	case apparmor:
		f.Says = "AppArmor confines it as " + plain.Text(confined) + "; no denial of this program is known"
	default:
		return []Finding{f}
	}
	for _, name := range []string{"/var/log/audit/audit.log", "/var/log/kern.log"} {
		if n, last := m.denials(name); n > 0 {
			f.State, f.Says, f.Next = Wrong, fmt.Sprintf("%s this program, last: %s", plain.Counted(n, "denial of", "denials of"), plain.Text(last)), "grep -a denied "+name
		}
	}
	return []Finding{f}
}

// denials counts them in the last MiB of a log.
func (m *Machine) denials(name string) (n int, last string) {
	f, err := os.Open(m.path(filepath.Clean(name)))
	if err != nil {
		return 0, ""
	}
	defer f.Close()
	const most = 1 << 20
	if end, err := f.Seek(0, io.SeekEnd); err == nil && end > most {
		_, _ = f.Seek(-most, io.SeekEnd)
	} else {
		_, _ = f.Seek(0, io.SeekStart)
	}
	raw, _ := io.ReadAll(io.LimitReader(f, most)) // what there is of it
	for _, line := range bytes.Split(raw, []byte("\n")) {
		if denied.Match(line) {
			n++
			last = string(line[:min(len(line), 200)])
		}
	}
	return n, last
}
