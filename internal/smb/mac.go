package smb

import (
	"amber.example/gatekeeper/internal/smb/message"
)

// What clients of macOS are told when they ask. What Finder keeps beside a file (its resource fork, its own marks) are named streams of it, as for
// every other client.

const macModel = "AmberGatekeeper"

// mac answers the context by which they ask; nothing where they ask for nothing that is known.
func mac(data []byte) (message.CreateContext, bool) {
	var q message.MacQuery
	if q.Parse(data) != nil {
		return message.CreateContext{}, false
	}
	a := message.MacAnswer{Asked: q.Asked & (message.MacServer | message.MacVolume | message.MacModel)}
	if a.Asked == 0 {
		return message.CreateContext{}, false
	}
	if a.Asked&message.MacServer != 0 {
		a.Server = message.MacCopiesFiles
	}
	if a.Asked&message.MacVolume != 0 {
		a.Volume = message.MacFullSync
	}
	if a.Asked&message.MacModel != 0 {
		a.Model = message.UTF16(macModel)
	}
	return message.CreateContext{Name: message.ContextMac, Data: a.Append(nil)}, true
}
