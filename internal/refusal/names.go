package refusal

import (
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

// HostName is of what may be the name, or the address, of a host.
var HostName = regexp.MustCompile(`^[A-Za-z0-9._:-]{1,253}$`)
