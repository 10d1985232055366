package smb

const (
	fsctlGetReferrals        = 0x00060194
	fsctlGetReferralsEx      = 0x000601b0
	fsctlPipeTransceive      = 0x0011c017
	fsctlPipeWait            = 0x00110018
	fsctlValidateNegotiate   = 0x00140204
	fsctlCreateOrGetObjectID = 0x000900c0
	fsctlQueryInterfaces     = 0x001401fc
	fsctlRequestResumeKey    = 0x00140078
	fsctlSetReparsePoint     = 0x000900a4
	fsctlGetReparsePoint     = 0x000900a8
	statusNotAReparsePoint   = Status(0xc0000275)
)

// ioctl is MS-SMB2 section 3.3.5.15.
func (r *request) ioctl() (*reply, error) {
	if !r.body.fixed(57) {
		return nil, statusInvalidParameter
	}
	const isFSCTL = 1
	code, flags := le.Uint32(r.body[4:]), le.Uint32(r.body[48:])
	input, ok := r.body.buffer(int(le.Uint32(r.body[24:])), int(le.Uint32(r.body[28:])))
	limit := int(le.Uint32(r.body[44:]))
	if !ok || flags&isFSCTL == 0 || !r.fits(max(len(input), limit)) {
		return nil, statusInvalidParameter
	}
	switch code {
	case fsctlGetReferrals, fsctlGetReferralsEx:
		return nil, statusFSDriverRequired
	case fsctlValidateNegotiate:
		return r.validateNegotiate(input, limit)
	case fsctlPipeTransceive:
		o, err := r.open(8)
		if err != nil {
			return nil, err
		}
		if o.pipe == nil {
			return nil, statusInvalidDeviceRequest
		}
		if err := o.pipe.write(input); err != nil {
			return nil, statusInvalidParameter
		}
		data, status := o.pipe.read(limit)
		if status != statusOK && status != statusBufferOverflow {
			return nil, status
		}
		return r.ioctlReply(code, data), maybe(status)
	case fsctlGetReparsePoint:
		return nil, statusNotAReparsePoint
	case fsctlPipeWait, fsctlCreateOrGetObjectID, fsctlQueryInterfaces, fsctlRequestResumeKey, fsctlSetReparsePoint:
		return nil, statusNotSupported
	}
	return nil, statusInvalidDeviceRequest
}

func (r *request) ioctlReply(code uint32, data []byte) *reply {
	const fixed = 48
	rep := newReply(fixed+len(data)).fixed(49, fixed)
	le.PutUint32(rep.at(4), code)
	copy(rep.at(8), r.body[8:24])
	le.PutUint32(rep.at(24), headerSize+fixed)
	le.PutUint32(rep.at(32), headerSize+fixed)
	le.PutUint32(rep.at(36), uint32(len(data)))
	rep.b = append(rep.b, data...)
	return rep
}

// errHangUp closes the connection: what was negotiated is not what the client sent.
const errHangUp = Status(0xffffffff)

// validateNegotiate is MS-SMB2 section 3.3.5.15.12: has somebody on the way made
// the two agree on less than both can?
func (r *request) validateNegotiate(input []byte, limit int) (*reply, error) {
	c := r.c
	if len(input) < 24 || limit < 24 {
		return nil, statusInvalidParameter
	}
	count := int(le.Uint16(input[22:]))
	same := le.Uint32(input) == c.client.capabilities && [16]byte(input[4:20]) == c.client.guid &&
		le.Uint16(input[20:]) == c.client.mode && count == len(c.client.dialects) && len(input) >= 24+2*count
	for i := 0; same && i < count; i++ {
		same = le.Uint16(input[24+2*i:]) == c.client.dialects[i]
	}
	if !same || c.dialect == dialect311 {
		c.log.Warn("negotiation was tampered with")
		return nil, errHangUp
	}
	out := make([]byte, 24)
	le.PutUint32(out, c.capabilities())
	copy(out[4:], c.srv.guid[:])
	le.PutUint16(out[20:], signingEnabled|signingRequired)
	le.PutUint16(out[22:], c.dialect)
	return r.ioctlReply(fsctlValidateNegotiate, out), nil
}
