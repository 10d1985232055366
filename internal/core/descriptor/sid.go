package descriptor

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

var le = binary.LittleEndian

// SID is a security identifier in its text form, MS-DTYP section 2.4.2.1: S-1-5-21-1-2-3.
type SID string

// SIDs of the standard, MS-DTYP section 2.4.2.4.
const (
	Everyone     SID = "S-1-1-0"
	CreatorOwner SID = "S-1-3-0" // whoever will own what is made below
	CreatorGroup SID = "S-1-3-1"
	OwnerRights  SID = "S-1-3-4" // whoever owns the object
	// unixUsers and unixGroups begin the SIDs of numbers that stand for nobody in the records.
	unixUsers  = "S-1-5-88-1-"
	unixGroups = "S-1-5-88-2-"
)

// MostSubs is how many numbers a SID has at most after its authority.
const MostSubs = 15

// ErrMalformed is for bytes, and texts, that are not what they should be.
var ErrMalformed = errors.New("malformed security descriptor")

// UnixUser is the SID of a user's number that stands for nobody in the records.
func UnixUser(uid uint32) SID { return SID(unixUsers + strconv.FormatUint(uint64(uid), 10)) }

// UnixGroup is the same for a group's.
func UnixGroup(gid uint32) SID { return SID(unixGroups + strconv.FormatUint(uint64(gid), 10)) }

// Unix is its inverse: the number, and whether it is a group's.
func (s SID) Unix() (number uint32, group, ok bool) {
	text, user := strings.CutPrefix(string(s), unixUsers)
	if !user {
		text, group = strings.CutPrefix(string(s), unixGroups)
	}
	n, err := strconv.ParseUint(text, 10, 32)
	return uint32(n), group, (user || group) && err == nil
}

// Within gives the last number of a SID that begins with a domain's.
func (s SID) Within(domain SID) (rid uint32, ok bool) {
	text, ok := strings.CutPrefix(string(s), string(domain)+"-")
	n, err := strconv.ParseUint(text, 10, 32)
	return uint32(n), ok && err == nil
}

// In is the SID of a number in a domain.
func (s SID) In(rid uint32) SID { return s + SID("-"+strconv.FormatUint(uint64(rid), 10)) }

// ParseSID reads a SID's packed form, MS-DTYP section 2.4.2.2, and says how many bytes it takes.
func ParseSID(b []byte) (SID, int, error) {
	if len(b) < 8 || b[0] != 1 || b[1] > MostSubs {
		return "", 0, ErrMalformed
	}
	size := 8 + 4*int(b[1])
	if len(b) < size {
		return "", 0, ErrMalformed
	}
	text := []byte("S-1-")
	text = strconv.AppendUint(text, uint64(binary.BigEndian.Uint16(b[2:]))<<32|uint64(binary.BigEndian.Uint32(b[4:])), 10)
	for at := 8; at < size; at += 4 {
		text = append(text, '-')
		text = strconv.AppendUint(text, uint64(le.Uint32(b[at:])), 10)
	}
	return SID(text), size, nil
}

// Append packs it. A text that is no SID is an error.
func (s SID) Append(b []byte) ([]byte, error) {
	parts := strings.Split(string(s), "-")
	if len(parts) < 3 || len(parts) > 3+MostSubs || parts[0] != "S" || parts[1] != "1" {
		return b, fmt.Errorf("%w: %q is no SID", ErrMalformed, string(s))
	}
	authority, err := strconv.ParseUint(parts[2], 10, 48)
	if err != nil {
		return b, fmt.Errorf("%w: %q is no SID", ErrMalformed, string(s))
	}
	b = append(b, 1, byte(len(parts)-3))
	b = binary.BigEndian.AppendUint16(b, uint16(authority>>32))
	b = binary.BigEndian.AppendUint32(b, uint32(authority))
	for _, part := range parts[3:] {
		n, err := strconv.ParseUint(part, 10, 32)
		if err != nil {
			return b, fmt.Errorf("%w: %q is no SID", ErrMalformed, string(s))
		}
		b = le.AppendUint32(b, uint32(n))
	}
	return b, nil
}
