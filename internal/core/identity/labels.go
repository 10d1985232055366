package identity

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/plain"
)

// Label is a mark on a record, such as season: spring.
type Label struct {
	Key   string `json:"key"`
	Value string `json:"value"`
}

// Labels are the marks of a record, in the order of their keys.
type Labels []Label

// MostLabels is how many a record has.
const MostLabels = 16

const longestLabel = 64

var labelKey = regexp.MustCompile(`^[\p{L}\p{N}_][\p{L}\p{N}._-]{0,31}$`)

// With gives the labels with others in their place, by key; an empty value takes one away. Errors say what is wrong with a key or a value.
func (l Labels) With(others map[string]string) (Labels, error) {
	out := slices.DeleteFunc(slices.Clone(l), func(have Label) bool { _, other := others[have.Key]; return other })
	for key, value := range others {
		switch {
		case !labelKey.MatchString(key):
			return nil, fmt.Errorf("label %q: use 1 to 32 letters, digits, dots, dashes and underscores, starting with a letter, a digit or an underscore", key)
		case len(value) > longestLabel:
			return nil, fmt.Errorf("label %s: its value is longer than %d bytes", key, longestLabel)
		case strings.ContainsAny(value, ",="):
			return nil, fmt.Errorf("label %s: its value holds a comma, or an equals sign", key)
		case plain.Check(value) != nil:
			return nil, fmt.Errorf("label %s: %w", key, plain.Check(value))
		case value != "":
			out = append(out, Label{key, value})
		}
	}
	if len(out) > MostLabels {
		return nil, fmt.Errorf("%d labels are more than a record has: %d", len(out), MostLabels)
	}
	slices.SortFunc(out, func(a, b Label) int { return strings.Compare(a.Key, b.Key) })
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// Map gives values by key; nil for none.
func (l Labels) Map() map[string]string {
	if len(l) == 0 {
		return nil
	}
	out := make(map[string]string, len(l))
	for _, one := range l {
		out[one.Key] = one.Value
	}
	return out
}

// Labelled is what records embed that have labels.
type Labelled struct {
	Labels Labels `json:"labels,omitzero"`
}

// Marks gives the labels of a record.
func (l *Labelled) Marks() Labels { return l.Labels }

// LabelFilter is the labels that somebody looks for: all of them have to be there.
type LabelFilter []Label

var errNoLabel = errors.New("it takes KEY=VALUE, or KEY for any value")

// ParseLabelFilter reads KEY=VALUE, or KEY for any value, each.
func ParseLabelFilter(texts []string) (out LabelFilter, err error) {
	for _, text := range texts {
		key, value, _ := strings.Cut(text, "=")
		if !labelKey.MatchString(key) {
			return nil, fmt.Errorf("%q: %w", text, errNoLabel)
		}
		out = append(out, Label{key, value})
	}
	return out, nil
}

// Fits says whether labels, by key, are those that are looked for.
func (f LabelFilter) Fits(labels map[string]string) bool {
	for _, want := range f {
		if is, ok := labels[want.Key]; !ok || want.Value != "" && is != want.Value {
			return false
		}
	}
	return true
}
