package usage

import (
	"fmt"

	"amber.example/gatekeeper/internal/core/site"
)

// Subject says what a use is of.
type Subject string

// What uses are listed by.
const (
	ByUser   Subject = "user"
	ByGroup  Subject = "group"
	ByFolder Subject = "folder"
	ByTree   Subject = "tree"
	ByVolume Subject = "volume"
)

// NumberName spells a user's or a group's number that nobody in the records has.
func NumberName(by Subject, number uint32) string {
	switch {
	case number == site.Anonymous:
		return "nobody"
	case by == ByUser:
		return fmt.Sprintf("uid %d", number)
	}
	return fmt.Sprintf("gid %d", number)
}
