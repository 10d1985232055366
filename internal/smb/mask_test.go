package smb

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/files"
)

func matches(text, name string) bool {
	m, ok := newMask(text)
	return ok && m.match(name)
}

// A mask matches what it matches place by place, at the borders of words as well.
func TestMasksMatchAsTheStandardSays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		length := rapid.OneOf(rapid.IntRange(0, 12), rapid.SampledFrom([]int{62, 63, 64, 65, 126, 127, 128, 129, 511, 512})).Draw(t, "length")
		text := rapid.StringOfN(rapid.SampledFrom([]rune(`*?<>".aAb`)), length, length, -1).Draw(t, "mask")
		if rapid.Bool().Draw(t, "long runs") {
			text = strings.Repeat(rapid.SampledFrom([]string{">", `"`, "?", "<", "a"}).Draw(t, "of"), max(length-len(text)/2, 0)) + text[len(text)/2:]
		}
		name := rapid.StringOfN(rapid.SampledFrom([]rune("ab.")), 0, 140, -1).Draw(t, "name")
		m, ok := newMask(text)
		require.True(t, ok)
		require.Equal(t, slowly(text, name), m.match(name), "%s %s", text, name)
	})
	for _, c := range []struct{ mask, name string }{{strings.Repeat("?", 64), strings.Repeat("a", 64)}, {strings.Repeat(">", 300), strings.Repeat("a", 255)}, {strings.Repeat(`"`, 130), ""},
		{strings.Repeat("a", 255), strings.Repeat("A", 255)}, {strings.Repeat("*?", 200), strings.Repeat("a", 200)}} {
		require.True(t, matches(c.mask, c.name), "%.20s… %d", c.mask, len(c.mask))
	}
}

func TestMasksAreBounded(t *testing.T) {
	_, ok := newMask(strings.Repeat("*", 32_000))
	require.True(t, ok, "that is one")
	_, ok = newMask(strings.Repeat("a", longestMask))
	require.True(t, ok)
	for _, text := range []string{strings.Repeat("a", longestMask+1), strings.Repeat("*?", 16_000), strings.Repeat("\U0001f52d", 32_000)} {
		_, ok = newMask(text)
		require.False(t, ok)
	}
}

// The worst mask there can be, on the longest name, beside the plainest: so many times as long.
func BenchmarkMasks(b *testing.B) {
	for name, text := range map[string]string{"plain": "*.fits", "worst": strings.Repeat("*>", longestMask/2)} {
		m, _ := newMask(text)
		b.Run(name, func(b *testing.B) {
			long := strings.Repeat("a.", 127)
			for b.Loop() {
				m.match(long)
			}
		})
	}
}

// slowly matches place by place, as the standard describes it.
func slowly(mask, name string) bool {
	return match([]rune(files.FoldName(mask)), []rune(files.FoldName(name)))
}

func match(mask, name []rune) bool {
	// states[i] says whether mask[:i] can match what of the name has been read.
	states, next := make([]bool, len(mask)+1), make([]bool, len(mask)+1)
	lastDot := -1
	for i, c := range name {
		if c == '.' {
			lastDot = i
		}
	}
	skip := func(s []bool, at int) { // what may match nothing
		for i, m := range mask {
			end := at == len(name)
			if s[i] && (m == '*' || m == '<' || end && m == '"' || m == '>' && (end || name[at] == '.')) {
				s[i+1] = true
			}
		}
	}
	states[0] = true
	skip(states, 0)
	for at, c := range name {
		clear(next)
		for i, m := range mask {
			if !states[i] {
				continue
			}
			switch m {
			case '*':
				next[i] = true
			case '<':
				next[i] = true
				next[i+1] = next[i+1] || at == lastDot
			case '?':
				next[i+1] = true
			case '>':
				next[i+1] = next[i+1] || c != '.'
			case '"':
				next[i+1] = next[i+1] || c == '.'
			default:
				next[i+1] = next[i+1] || m == c
			}
		}
		states, next = next, states
		skip(states, at+1)
	}
	return states[len(mask)]
}
