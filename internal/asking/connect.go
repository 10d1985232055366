package asking

import (
	"cmp"
	"fmt"
	"net"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

// Way is one thing to type on a client to open a folder.
type Way struct {
	System string // Linux, macOS, Windows
	Over   string // SMB, NFS
	Does   string // what typing it does
	Text   string
}

var systems = []string{"Linux", "macOS", "Windows"}

// Ports are where the protocols answer.
type Ports struct{ SMB, NFS int }

// Connect lists what to type on each kind of client to open a folder by every share and every
// export it has. host is the gateway as clients reach it; user may be empty.
func (a Answers) Connect(folder, host string, ports Ports, user string) ([]Way, error) {
	f, err := a.Gateway.Folder(folder)
	if err != nil {
		return nil, err
	}
	if !refusal.HostName.MatchString(host) {
		return nil, refusal.Bad("host", "%q is no host name or address", host)
	}
	if user == "" {
		user = "USER"
	} else if u, err := a.Gateway.User(user); err != nil {
		return nil, err
	} else {
		user = u.Name
	}
	port := ports.SMB
	const standard = 445
	options, at, tail := "vers=3.1.1", host, ""
	if strings.Contains(host, ":") {
		at = "[" + host + "]"
	}
	hostPort := at
	if port != standard {
		options = fmt.Sprintf("port=%d,%s", port, options)
		hostPort = net.JoinHostPort(host, fmt.Sprint(port))
		tail = fmt.Sprintf(" /tcpport:%d", port)
	}
	var out []Way
	for _, sh := range f.Shares {
		share, options := fmt.Sprintf("//%s/%s", host, sh.Name), options
		if a.Gateway.Policy().Sealed(sh) {
			options += ",seal"
		}
		inFile, inURL := strings.ReplaceAll(sh.Name, " ", `\040`), strings.ReplaceAll(sh.Name, " ", "%20")
		out = append(out,
			Way{"Linux", "SMB", "mounts it once", fmt.Sprintf("mount -t cifs %s %s -o %s,username=%s", quote(share), quote("/mnt/"+sh.Name), options, user)},
			Way{"Linux", "SMB", "mounts it at every start: a line of /etc/fstab", fmt.Sprintf("//%s/%s /mnt/%s cifs %s,credentials=/etc/cifs-%s,_netdev 0 0", host, inFile, inFile, options, user)},
			Way{"Linux", "SMB", "mounts it when it is used: a line of an autofs map", fmt.Sprintf("%s -fstype=cifs,%s,credentials=/etc/cifs-%s ://%s/%s", inMap(sh.Name), options, user, host,
				inMap(sh.Name))},
			Way{"macOS", "SMB", "opens it: Go, Connect to Server", fmt.Sprintf("smb://%s@%s/%s", user, hostPort, inURL)},
			Way{"macOS", "SMB", "mounts it once", fmt.Sprintf("mount_smbfs %s %s", quote("//"+user+"@"+hostPort+"/"+inURL), quote("/Volumes/"+sh.Name))},
			Way{"Windows", "SMB", windowsDoes(port == standard), fmt.Sprintf(`net use * "\\%s\%s" /user:%s%s`, windowsHost(host), sh.Name, user, tail)},
		)
	}
	out = append(out, connectNFS(f, host, at, ports.NFS)...)
	// All that is for one kind of client stands together.
	slices.SortStableFunc(out, func(a, b Way) int {
		return cmp.Compare(slices.Index(systems, a.System), slices.Index(systems, b.System))
	})
	return out, nil
}

// connectNFS is about the exports of a folder. Version 4.1 asks for one port and nothing else.
func connectNFS(f *site.PublishedFolder, host, at string, port int) []Way {
	const standard = 2049
	options, url := "vers=4.1", ""
	mac := "vers=4"
	windows := ""
	if port != standard {
		options = fmt.Sprintf("%s,port=%d", options, port)
		mac = fmt.Sprintf("%s,port=%d", mac, port)
		url = fmt.Sprintf(":%d", port)
		windows = " (Windows finds NFS by the port mapper only: amber serve --portmap :111)"
	}
	var out []Way
	for _, e := range f.Exports {
		place := "/mnt" + e.Path
		source := at + ":" + e.Path
		inFile := strings.NewReplacer(" ", `\040`)
		name := e.Path[strings.LastIndexByte(e.Path, '/')+1:]
		out = append(out,
			Way{"Linux", "NFS", "mounts it once", fmt.Sprintf("mount -t nfs %s %s -o %s", quote(source), quote(place), options)},
			Way{"Linux", "NFS", "mounts it at every start: a line of /etc/fstab", fmt.Sprintf("%s %s nfs %s,_netdev 0 0", inFile.Replace(source), inFile.Replace(place), options)},
			Way{"Linux", "NFS", "mounts it when it is used: a line of an autofs map", fmt.Sprintf("%s -fstype=nfs,%s %s", inMap(name), options, inMap(source))},
			Way{"macOS", "NFS", "opens it: Go, Connect to Server", fmt.Sprintf("nfs://%s%s%s", at, url, strings.ReplaceAll(e.Path, " ", "%20"))},
			Way{"macOS", "NFS", "mounts it once", fmt.Sprintf("sudo mount_nfs -o %s %s %s", mac, quote(source), quote("/Volumes/"+name))},
			Way{"Windows", "NFS", "gives it a drive letter, with Client for NFS installed" + windows, fmt.Sprintf(`mount -o anon \\%s%s *`, windowsHost(host), strings.ReplaceAll(e.Path, "/", `\`))},
		)
	}
	return out
}

// inMap spells a word of an autofs map, in which backslashes take what is special for what it is.
func inMap(word string) string {
	return strings.NewReplacer(" ", `\ `, "$", `\$`, "&", `\&`, "#", `\#`).Replace(word)
}

func windowsDoes(standard bool) string {
	if standard {
		return "gives it a drive letter"
	}
	return "gives it a drive letter (another port than 445 takes Windows 11 24H2 or Server 2025)"
}

// windowsHost is an IPv6 address in the form that a path allows there.
func windowsHost(host string) string {
	if strings.Contains(host, ":") {
		return strings.ReplaceAll(host, ":", "-") + ".ipv6-literal.net"
	}
	return host
}
