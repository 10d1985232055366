package live

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/site"
)

// mostTold is how many addresses are named of those that are turned away.
const mostTold = 5

// TurnedAway says of whom who is there now another policy lets in no more by where they come from: a sentence for each share and export. A host
// of which it hangs on a rule about names is not told of, since nobody looks its names up for that.
func TurnedAway(sessions []Session, before, after *site.Policy) (out []string) {
	from := make(map[string][]string) // by way in
	for _, s := range sessions {
		address, err := netip.ParseAddr(s.Address)
		if err != nil {
			continue
		}
		for _, name := range s.Through {
			if way := turnsAway(before, after, s.Via, name, address.WithZone("").Unmap()); way != "" && !slices.Contains(from[way], s.Address) {
				from[way] = append(from[way], s.Address)
			}
		}
	}
	for way, addresses := range from {
		slices.Sort(addresses)
		told := strings.Join(addresses[:min(len(addresses), mostTold)], ", ")
		if more := len(addresses) - mostTold; more > 0 {
			told += fmt.Sprintf(" and %d more", more)
		}
		out = append(out, fmt.Sprintf("who is connected to %s now from %s is let in no more", way, told))
	}
	slices.Sort(out)
	return out
}

// turnsAway names the share or export by which an address is let in now and would not be; "" for none.
func turnsAway(before, after *site.Policy, via site.Protocol, name string, address netip.Addr) string {
	o := &site.Origin{Address: address, Unsure: true, Flavor: site.FlavorSys}
	out := func(rules []site.ExportRule, match *site.ExportRule) bool {
		return match == nil && !slices.ContainsFunc(rules, func(l site.ExportRule) bool { return l.ByName() })
	}
	if via == site.SMB {
		was := before.ShareNamed(name)
		if was == nil {
			return ""
		}
		for _, is := range after.Shares {
			if is.ID == was.ID && len(is.Hosts) > 0 && out(is.InForce, is.Match(o)) && (len(was.Hosts) == 0 || was.Match(o) != nil) {
				return "share " + is.Name
			}
		}
		return ""
	}
	was := before.ExportAt(name)
	if was == nil || was.Match(o) == nil {
		return ""
	}
	if is := after.Export(was.ID); is != nil && out(is.InForce, is.Match(o)) {
		return "export " + is.Path
	}
	return ""
}
