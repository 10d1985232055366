package smb

import (
	"slices"

	"amber.example/gatekeeper/internal/smb/message"
)

const (
	fsctlGetReferrals        = 0x00060194
	fsctlGetReferralsEx      = 0x000601b0
	fsctlPipeTransceive      = 0x0011c017
	fsctlPipeWait            = 0x00110018
	fsctlValidateNegotiate   = 0x00140204
	fsctlCreateOrGetObjectID = 0x000900c0
	fsctlQueryInterfaces     = 0x001401fc
	fsctlSetReparsePoint     = 0x000900a4
	fsctlGetReparsePoint     = 0x000900a8
	fsctlDeleteReparsePoint  = 0x000900ac

	fsctlRequestResumeKey     = 0x00140078
	fsctlCopyChunk            = 0x001440f2
	fsctlCopyChunkWrite       = 0x001480f2
	fsctlDuplicateExtents     = 0x00098344
	fsctlSetZeroData          = 0x000980c8
	fsctlSetSparse            = 0x000900c4
	fsctlQueryAllocatedRanges = 0x000940cf
	fsctlEnumerateSnapshots   = 0x00144064
)

// ioctl is MS-SMB2 section 3.3.5.15.
func (r *request) ioctl(m *message.IoctlRequest) (*reply, error) {
	if m.Flags&message.IoctlIsFSCTL == 0 || !r.fits(max(len(m.Input), int(m.MaxOutput))) {
		return nil, statusInvalidParameter
	}
	if control := fileControls[m.Code]; control != nil {
		o, err := r.fileOf(m)
		if err != nil {
			return nil, err
		}
		return control(r, o, m)
	}
	switch m.Code {
	case fsctlGetReferrals, fsctlGetReferralsEx:
		return r.refer(m)
	case fsctlValidateNegotiate:
		return r.validateNegotiate(m)
	case fsctlPipeTransceive:
		o, err := r.open(m.ID)
		if err != nil {
			return nil, err
		}
		if o.pipe == nil {
			return nil, statusInvalidDeviceRequest
		}
		if err := o.pipe.write(m.Input); err != nil {
			return nil, statusInvalidParameter
		}
		data, status := o.pipe.read(int(m.MaxOutput))
		if status != statusOK && status != statusBufferOverflow {
			return nil, status
		}
		return answer(&message.IoctlResponse{Code: m.Code, ID: m.ID, Output: data}), maybe(status)
	case fsctlPipeWait, fsctlCreateOrGetObjectID, fsctlQueryInterfaces, fsctlDeleteReparsePoint:
		return nil, statusNotSupported
	}
	return nil, statusInvalidDeviceRequest
}

// errHangUp closes the connection: what was negotiated is not what the client sent.
const errHangUp = Status(0xffffffff)

// validateNegotiate is MS-SMB2 section 3.3.5.15.12: has somebody on the way made
// the two agree on less than both can?
func (r *request) validateNegotiate(m *message.IoctlRequest) (*reply, error) {
	c := r.c
	var said message.ValidateNegotiateRequest
	answers := message.ValidateNegotiateResponse{Capabilities: c.capabilities(), ServerGUID: c.srv.guid,
		SecurityMode: signingEnabled | signingRequired, Dialect: c.dialect}
	out := answers.Append(nil)
	if len(m.Input) < 24 || int(m.MaxOutput) < len(out) {
		return nil, statusInvalidParameter
	}
	if said.Parse(m.Input) != nil || said.Capabilities != c.client.Capabilities || said.ClientGUID != c.client.ClientGUID ||
		said.SecurityMode != c.client.SecurityMode ||
		!slices.Equal(said.Dialects, c.client.Dialects) || c.dialect == dialect311 {
		c.log.Warn("negotiation was tampered with")
		return nil, errHangUp
	}
	return answer(&message.IoctlResponse{Code: m.Code, ID: m.ID, Output: out}), nil
}
