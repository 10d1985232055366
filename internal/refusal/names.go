package refusal

import (
	"net/mail"
	"regexp"
	"strings"
)

var placeName = regexp.MustCompile(`^[\p{L}\p{N}_][\p{L}\p{N} ._-]{0,79}$`)

// PlaceName says what is wrong with a name for a volume, a folder or the like; nil for nothing.
func PlaceName(field, name string) error {
	if !placeName.MatchString(name) || strings.HasSuffix(name, " ") || strings.HasSuffix(name, ".") {
		return Bad(field, "name %q: use 1 to 80 letters, digits, dots, dashes, underscores and spaces, with a letter or digit first and no space or dot last", name)
	}
	return nil
}

var accountName = regexp.MustCompile(`^[\p{L}\p{N}_][\p{L}\p{N}._-]{0,31}$`)

// AccountName says what is wrong with a name for a user or a group; nil for nothing.
func AccountName(field, name string) error {
	if !accountName.MatchString(name) {
		return Bad(field, "name %q: use 1 to 32 letters, digits, dots, dashes and underscores, starting with a letter, a digit or an underscore", name)
	}
	return nil
}

// MailAddress says what is wrong with an address that is to stand alone, without a name before it; nil for nothing.
func MailAddress(field, address string) error {
	a, err := mail.ParseAddress(address)
	if err != nil || a.Name != "" || a.Address != address || len(address) > 254 {
		return Bad(field, "%q is no mail address, such as piran@larkfell.example", address)
	}
	return nil
}

// HostName is of what may be the name, or the address, of a host.
var HostName = regexp.MustCompile(`^[A-Za-z0-9._:-]{1,253}$`)
