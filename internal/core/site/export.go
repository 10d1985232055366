package site

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
)

// Permissions says what decides about the objects of a folder.
type Permissions string

// The kinds of Permissions.
const (
	ByEntries Permissions = "acl"  // the entries of the records
	ByMode    Permissions = "unix" // owner, group, mode and POSIX ACL of each object
)

// Ownership says where a folder's objects carry their owner and group.
type Ownership string

// The kinds of Ownership.
const (
	Mapped Ownership = "mapped" // in an extended attribute: the service needs no privilege
	Native Ownership = "native" // as the host's own: takes a service that may give files away
)

// Squash says which numbers of clients are taken for the anonymous ones.
type Squash string

// The kinds of Squash.
const (
	SquashNone Squash = "none"
	SquashRoot Squash = "root"
	SquashAll  Squash = "all"
)

// Unknown says what becomes of a uid that no user has.
type Unknown string

// The kinds of Unknown.
const (
	UnknownRefused   Unknown = "refused"
	UnknownAnonymous Unknown = "anonymous"
	UnknownNumber    Unknown = "number" // acts by its bare number, in folders where Unix modes decide
)

// Flavor is a security flavour, by its name in RFC 5531 and RFC 2623.
type Flavor string

// FlavorSys is AUTH_SYS: the client says who its users are, and is believed.
const FlavorSys Flavor = "sys"

// Anonymous is the uid and gid that squashed requests act with unless a rule says otherwise.
const Anonymous uint32 = 65534

// SetMark stands before the name of a host set where a rule's hosts are written.
const SetMark = "@"

// ClientRule is one rule of an export: from whom, and on what terms. From is an
// address, a network ("192.0.2.0/24"), a host name, a pattern of host names
// ("*.larkfell.example"), "*" for everyone, or "@NAME" for a host set, whose rules stand in
// its place; then nothing else in the rule counts.
type ClientRule struct {
	ID             int64    `json:"id,omitzero"`
	From           string   `json:"from,omitzero"`
	Write          bool     `json:"write,omitzero"`
	Squash         Squash   `json:"squash,omitzero"`
	AnonUID        uint32   `json:"anonUid,omitzero"`
	AnonGID        uint32   `json:"anonGid,omitzero"`
	Security       []Flavor `json:"security,omitzero"`
	PrivilegedPort bool     `json:"privilegedPort,omitzero"` // only from source ports below 1024
	Unknown        Unknown  `json:"unknown,omitzero"`
}

// HostSet is a named, reusable list of client rules.
type HostSet struct {
	ID          int64        `json:"id,omitzero"`
	Name        string       `json:"name,omitzero"`
	Description string       `json:"description,omitzero"`
	Rules       []ClientRule `json:"rules,omitzero"`
}

// Export is a folder, or a path below it, published over NFS. Path is what clients mount:
// absolute, with slashes. Below is the path in the folder, "" for all of it.
type Export struct {
	ID           int64        `json:"id,omitzero"`
	Path         string       `json:"path,omitzero"`
	FolderID     int64        `json:"folderId,omitzero"`
	Below        string       `json:"below,omitzero"`
	Description  string       `json:"description,omitzero"`
	Sync         bool         `json:"sync,omitzero"`         // every write is on disk before it is answered
	ClientGroups bool         `json:"clientGroups,omitzero"` // groups are those the client lists
	Rules        []ClientRule `json:"rules,omitzero"`
	identity.Labelled
}

// PublishedExport is an export as compiled. Rules are in force in this order, with host sets
// put in place.
type PublishedExport struct {
	Export
	Folder  *PublishedFolder
	InForce []ExportRule
}

// ExportRule is a client rule as it is in force in an export, or in a share. Set is the host set it comes from, "" for none. Number
// counts its rules from 1.
type ExportRule struct {
	ClientRule
	Number int
	Set    string
	// ShadowedBy is the number of an earlier rule that matches all that this one does, 0 for none.
	ShadowedBy int
	hosts      hosts
}

// Host is an address that the rule is about, where it names any; false where it is about names, or about every host.
func (r *ExportRule) Host() (netip.Addr, bool) {
	n := r.hosts.network
	if !n.IsValid() || n.Bits() == 0 {
		return netip.Addr{}, false
	}
	if n.IsSingleIP() {
		return n.Addr(), true
	}
	return n.Masked().Addr().Next(), true
}

// Origin is where a request comes from. Names are the host names that the address is known to
// have, lower case. Port is the source port.
type Origin struct {
	Address netip.Addr
	Names   []string
	Unsure  bool // names could not be looked up: a rule about names may match or may not
	Port    uint16
	Flavor  Flavor
}

// hosts is a compiled From: a network, else a name or a pattern of names.
type hosts struct {
	network netip.Prefix
	pattern string
	all     bool
}

// ErrFrom is wrapped by the errors of CheckFrom.
var ErrFrom = errors.New("not an address, a network, a host name or a pattern of host names")

// FromError is an ErrFrom that knows what was meant.
type FromError struct{ Says string }

func (e *FromError) Error() string { return e.Says }
func (e *FromError) Unwrap() error { return ErrFrom }

var hostPattern = regexp.MustCompile(`^[a-z0-9_*?]([a-z0-9_.*?-]{0,252})$`)

func parseHosts(from string) (hosts, error) {
	if from == "*" {
		return hosts{all: true}, nil
	}
	if strings.Contains(from, "/") {
		p, err := netip.ParsePrefix(from)
		if err != nil {
			return hosts{}, fmt.Errorf("%q: %w", from, ErrFrom)
		}
		p = netip.PrefixFrom(p.Addr().Unmap(), p.Bits()).Masked()
		if !p.IsValid() {
			return hosts{}, fmt.Errorf("%q: %w", from, ErrFrom)
		}
		return hosts{network: p, all: p.Bits() == 0}, nil
	}
	if a, err := netip.ParseAddr(from); err == nil {
		a = a.Unmap()
		return hosts{network: netip.PrefixFrom(a, a.BitLen())}, nil
	}
	name := strings.TrimSuffix(strings.ToLower(from), ".")
	// Digits and dots alone are an address gone wrong.
	if !hostPattern.MatchString(name) || strings.Contains(name, "..") || strings.Trim(name, "0123456789.") == "" {
		return hosts{}, fmt.Errorf("%q: %w", from, ErrFrom)
	}
	return hosts{pattern: name, all: strings.Trim(name, "*.") == ""}, nil
}

var (
	starred = regexp.MustCompile(`^(\d{1,3})(?:\.(\d{1,3}))?(?:\.(\d{1,3}))?(?:\.\*)+$`)
	numbers = regexp.MustCompile(`^[0-9.*?-]*[0-9][0-9.*?-]*$`)
)

// never says of what looks like addresses and is a pattern of names, which no host can fit, how it is written; nil for all else.
func never(from string) error {
	if m := starred.FindStringSubmatch(from); m != nil {
		bits, address := 8, m[1]
		for _, part := range m[2:] {
			if part == "" {
				address += ".0"
			} else {
				address += "." + part
				bits += 8
			}
		}
		if p, err := netip.ParsePrefix(fmt.Sprintf("%s.0/%d", address, bits)); err == nil {
			return &FromError{fmt.Sprintf("%q would be a pattern of names, which no address fits: write %s", from, p)}
		}
	}
	if numbers.MatchString(from) && strings.ContainsAny(from, "*?-") {
		return &FromError{fmt.Sprintf("%q fits no host: write each address, or a network such as 192.0.2.0/24", from)}
	}
	return nil
}

// CleanFrom gives the form in which a rule's hosts are kept, whether it means a pattern of names,
// and whether it lets in every host there is, of one family or named in one way. It does not
// look at host sets.
func CleanFrom(from string) (clean string, everyone bool, err error) {
	if err := never(strings.TrimSpace(from)); err != nil {
		return "", false, err
	}
	h, err := parseHosts(strings.TrimSpace(from))
	switch {
	case err != nil:
		return "", false, err
	case h.network.IsSingleIP():
		return h.network.Addr().String(), false, nil
	case h.network.IsValid():
		return h.network.String(), h.all, nil
	case h.pattern == "":
		return "*", true, nil
	}
	return h.pattern, h.all, nil
}

// MatchPattern says whether a host name fits a pattern in which * stands for any letters of
// one part of the name and ? for one.
func MatchPattern(pattern, name string) bool {
	// Backtracking to the last star alone is enough, as a star that has been passed
	// never has to give way to one before it.
	p, n, star, retry := 0, 0, -1, 0
	for n < len(name) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, retry = p, n
			p++
		case p < len(pattern) && (pattern[p] == name[n] || pattern[p] == '?' && name[n] != '.'):
			p++
			n++
		case star >= 0 && name[retry] != '.':
			retry++
			p, n = star+1, retry
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' {
		p++
	}
	return p == len(pattern)
}

func (h hosts) match(o *Origin) bool {
	switch {
	case h.network.IsValid():
		return h.network.Contains(o.Address.Unmap())
	case h.pattern == "":
		return h.all
	}
	return slices.ContainsFunc(o.Names, func(name string) bool { return MatchPattern(h.pattern, name) })
}

// covers says whether it matches all that another does.
func (h hosts) covers(other hosts) bool {
	switch {
	case h.all && !h.network.IsValid() && h.pattern == "":
		return true
	case h.network.IsValid():
		return other.network.IsValid() && h.network.Bits() <= other.network.Bits() && h.network.Contains(other.network.Addr())
	}
	return other.pattern != "" && (h.pattern == other.pattern || other.exact() && MatchPattern(h.pattern, other.pattern))
}

// Match gives the first rule that an origin fits; nil when none does, or when that cannot be told.
func (e *PublishedExport) Match(o *Origin) *ExportRule { return match(e.InForce, o) }

// HostNames lists the host names that client rules and number maps spell out, and says whether any is about
// names at all.
func (p *Policy) HostNames() (names []string, any bool) {
	names = p.hostNames
	for _, m := range p.NumberMaps {
		for _, h := range m.hosts {
			if h.exact() && !slices.Contains(names, h.pattern) {
				names = append(slices.Clip(names), h.pattern)
			}
		}
	}
	return names, p.namesMatter || p.mapsByName
}

// exact says whether it is about one host by its name.
func (h hosts) exact() bool { return h.pattern != "" && !strings.ContainsAny(h.pattern, "*?") }

// Everyone says whether the rule lets in every host there is.
func (l *ExportRule) Everyone() bool { return l.hosts.all }

// ByName says whether the rule is about host names.
func (l *ExportRule) ByName() bool { return l.hosts.pattern != "" }

func (p *Policy) compileExports(r Records, hosts *hostSets) (err error) {
	for _, e := range r.Exports {
		f := p.Folder(e.FolderID)
		if f == nil {
			return fmt.Errorf("folder of export %s: %w", e.Path, identity.ErrAbsent)
		}
		if _, ok := p.exportByPath[e.Path]; ok {
			return fmt.Errorf("export path %q: %w", e.Path, identity.ErrDuplicate)
		}
		pe := &PublishedExport{Export: e, Folder: f}
		if pe.InForce, err = hosts.inForce(e.Rules); err != nil {
			return fmt.Errorf("export %s: %w", e.Path, err)
		}
		f.Exports = append(f.Exports, pe)
		p.exportByPath[e.Path], p.exportByID[e.ID] = len(p.Exports), len(p.Exports)
		p.Exports = append(p.Exports, pe)
	}
	return nil
}

// ExportAt finds an export by the path that clients mount, with or without the slash in front;
// nil when there is none.
func (p *Policy) ExportAt(path string) *PublishedExport {
	return pick(p.Exports, p.exportByPath, "/"+strings.Trim(path, "/"))
}

// Export finds an export by record; nil when there is none.
func (p *Policy) Export(id int64) *PublishedExport { return pick(p.Exports, p.exportByID, id) }

// HostSetNamed finds a host set, whatever the case of the name; nil when there is none.
func (p *Policy) HostSetNamed(name string) *HostSet {
	i := slices.IndexFunc(p.HostSets, func(h HostSet) bool { return identity.Fold(h.Name) == identity.Fold(name) })
	if i < 0 {
		return nil
	}
	return &p.HostSets[i]
}
