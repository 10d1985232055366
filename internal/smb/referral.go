package smb

import (
	"strings"

	"amber.example/gatekeeper/internal/smb/message"
)

// Names of the server that lead somewhere else: a client that asks for a share by one of them is told where that is (MS-DFSC), and goes there by
// itself.

// referredFor is for how long a client may rely on it, in seconds.
const referredFor = 300

// led connects a session to a share that is elsewhere: it holds nothing, and sends its clients to ask where.
func (r *request) led(elsewhere string) (*reply, error) {
	sealed, err := r.admitted()
	if err != nil {
		return nil, err
	}
	return r.joined(&tree{led: elsewhere}, &message.TreeConnectResponse{Type: message.ShareDisk, Capabilities: message.ShareIsLed, MaximalAccess: readOnlyAccess,
		ShareFlags: message.ShareLeads | message.ShareLeadsOn | message.ShareNoCaching | sealed})
}

// readOnlyAccess is as much as a share is said to give that is elsewhere.
const readOnlyAccess = 0x1200a9

// refer is FSCTL_DFS_GET_REFERRALS, MS-SMB2 section 3.3.5.15.2.
func (r *request) refer(m *message.IoctlRequest) (*reply, error) {
	p := r.c.srv.Policy()
	if !r.tree.pipes() || !p.LeadsElsewhere() {
		return nil, statusFSDriverRequired
	}
	var asked message.ReferralRequest
	if m.Code == fsctlGetReferralsEx {
		var ex message.ReferralRequestEx
		if ex.Parse(m.Input) != nil {
			return nil, statusInvalidParameter
		}
		asked = ex.ReferralRequest
	} else if asked.Parse(m.Input) != nil {
		return nil, statusInvalidParameter
	}
	path, ok := message.Text(asked.Path)
	if !ok || asked.Level < 3 {
		return nil, statusInvalidParameter
	}
	names := strings.Split(strings.TrimLeft(path, `\`), `\`)
	if len(names) < 2 {
		return nil, statusNotFound
	}
	_, elsewhere := p.Meant(names[0], names[1])
	if elsewhere == "" {
		return nil, statusNotFound
	}
	stands := message.UTF16(`\` + names[0] + `\` + names[1])
	answers := message.Referral{Version: min(asked.Level, 4), Consumed: uint16(len(stands)), Seconds: referredFor, Path: stands,
		Place: message.UTF16(elsewhere[1:])}
	out := answers.Append(nil)
	if int(m.MaxOutput) < len(out) {
		return nil, statusBufferOverflow
	}
	return controlled(m, out), nil
}
