// Package config is what the process of the service is told by who runs the machine, and not by its records: addresses, certificates, where
// things are kept, how it logs. Each setting has one name, on the command line, in the environment and in the file, and is described once.
package config

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"amber.example/gatekeeper/internal/core/limit"
)

// Config is what a process of the service is told. Texts that are empty and lists without anything stand for none.
type Config struct {
	State                      string
	Console, SMB, NFS, Portmap string // addresses with their ports
	Metrics                    string // an address of its own for /metrics
	SMBOverQUIC                string // an address for SMB over QUIC, by UDP
	ConsoleNames               []string
	TrustedProxies             []netip.Prefix
	Certificate, Key           string // PEM files of the console
	ClientAuthorities          string // a PEM file of who signs the certificates of clients
	VolumeRoots                []string
	Lease, Recount, Keep       time.Duration
	RefuseUnrecorded           bool
	JournalHashes              string
	LogLevel, LogFormat, LogTo string
	BackupTo                   string
	BackupEvery                time.Duration
	BackupKeep                 int
	BackupRecipients           []string // age's public keys
	Announce                   []string // names of interfaces, or "all"

	values []Value
}

// Setting describes one setting.
type Setting struct {
	Name, Usage string
	Default     string // as it is typed; "" for nothing
	Instead     string // what a reader is told in place of the default
	Many        bool   // it may be given several times
	Switch      bool   // it is on or off
	Live        bool   // a change of it is taken up while the service runs, once it is told to read its file again
	Path        bool   // it names a file or directory

	set func(*Config, []string) error
}

// Variable is the name of the setting in the environment.
func (s *Setting) Variable() string {
	return "AMBER_" + strings.ToUpper(strings.ReplaceAll(s.Name, "-", "_"))
}

// Value is what a setting is, and where that was said.
type Value struct {
	Name  string
	Value string // as it is typed
	From  From
	Live  bool
}

// From is where a value was said.
type From struct {
	Kind  string // "flag", "environment", "file", "default"
	Where string // "--smb", "AMBER_SMB", "/etc/amber-gatekeeper/amber.yaml line 3"; "" for the default
}

// String is what a reader calls it.
func (f From) String() string {
	if f.Where == "" {
		return "the default"
	}
	return f.Where
}

// Fault is what is wrong about one setting, and where it was said.
type Fault struct {
	Setting string
	At      From
	Says    string
}

func (f *Fault) Error() string {
	if f.Setting == "" {
		return f.At.Where + ": " + f.Says
	}
	if f.At.Kind == "file" || f.At.Where == "" {
		return strings.TrimPrefix(f.At.Where+": ", ": ") + f.Setting + ": " + f.Says
	}
	return f.At.Where + ": " + f.Says
}

func text(of func(*Config) *string, check func(string) error) func(*Config, []string) error {
	return func(c *Config, values []string) error {
		if check != nil && values[0] != "" {
			if err := check(values[0]); err != nil {
				return err
			}
		}
		*of(c) = values[0]
		return nil
	}
}

func texts(of func(*Config) *[]string, check func(string) error) func(*Config, []string) error {
	return func(c *Config, values []string) error {
		*of(c) = nil
		for _, v := range values {
			if v == "" {
				continue
			}
			if check != nil {
				if err := check(v); err != nil {
					return err
				}
			}
			*of(c) = append(*of(c), v)
		}
		return nil
	}
}

func during(of func(*Config) *time.Duration, least, most time.Duration) func(*Config, []string) error {
	return func(c *Config, values []string) error {
		d, err := limit.ParseGrace(values[0])
		if err != nil {
			if d, err = time.ParseDuration(values[0]); err != nil {
				return fmt.Errorf("%q is no length of time, such as 90s, 36h or 30d", values[0])
			}
		}
		if d < least || most > 0 && d > most {
			if most == 0 {
				return fmt.Errorf("%s is less than %s", values[0], limit.ExactGrace(least))
			}
			return fmt.Errorf("%s is not between %s and %s", values[0], limit.ExactGrace(least), limit.ExactGrace(most))
		}
		*of(c) = d
		return nil
	}
}

func oneOf(words ...string) func(string) error {
	return func(s string) error {
		if !slices.Contains(words, s) {
			return fmt.Errorf("%q is none of %s", s, strings.Join(words, ", "))
		}
		return nil
	}
}

// address checks HOST:PORT, of which the host may be left out.
func address(s string) error {
	host, port, err := net.SplitHostPort(s)
	if err != nil || port == "" {
		return fmt.Errorf("%q is no address with a port, such as 127.0.0.1:8460 or :4450", s)
	}
	if _, err := net.LookupPort("tcp", port); err != nil {
		return fmt.Errorf("%q is no port", port)
	}
	if strings.ContainsAny(host, " /") {
		return fmt.Errorf("%q is no address", host)
	}
	return nil
}

func recipient(s string) error {
	if _, err := age.ParseX25519Recipient(s); err != nil {
		return fmt.Errorf("%q is no public key of age, which begin with age1", s)
	}
	return nil
}

func proxies(c *Config, values []string) error {
	c.TrustedProxies = nil
	for _, t := range values {
		if t == "" {
			continue
		}
		p, err := netip.ParsePrefix(t)
		if addr, addrErr := netip.ParseAddr(t); addrErr == nil {
			p, err = netip.PrefixFrom(addr, addr.BitLen()), nil
		}
		if err != nil {
			return fmt.Errorf("%q is neither an address nor a network, such as 192.0.2.7 or 192.0.2.0/24", t)
		}
		c.TrustedProxies = append(c.TrustedProxies, p.Masked())
	}
	return nil
}

func onOff(of func(*Config) *bool) func(*Config, []string) error {
	return func(c *Config, values []string) error {
		switch values[0] {
		case "true", "on", "yes":
			*of(c) = true
		case "false", "off", "no":
			*of(c) = false
		default:
			return fmt.Errorf("%q is neither on nor off", values[0])
		}
		return nil
	}
}

func count(of func(*Config) *int, least, most int) func(*Config, []string) error {
	return func(c *Config, values []string) error {
		var n int
		if _, err := fmt.Sscanf(values[0], "%d", &n); err != nil || fmt.Sprint(n) != values[0] || n < least || n > most {
			return fmt.Errorf("%q is no number from %d to %d", values[0], least, most)
		}
		*of(c) = n
		return nil
	}
}
