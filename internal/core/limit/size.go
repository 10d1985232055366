package limit

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
)

// Sizes that cannot be read.
var (
	ErrSize   = errors.New("is not a size: write a number of bytes, or one with a unit, such as 20G, 1.5TB or 512MiB")
	ErrTooBig = errors.New("is more than the largest size there is, 8 EiB less one byte")
	ErrCount  = errors.New("is not a number of files: write one such as 5000 or 20k")
)

// units are the prefixes of ISO 80000-1 and IEC 80000-13. A letter alone is the decimal one.
var units = []struct {
	prefix string
	power  int
}{{"k", 1}, {"m", 2}, {"g", 3}, {"t", 4}, {"p", 5}, {"e", 6}}

// ParseSize reads a number of bytes: "2500000", "2.5M", "2.5MB" (10^6), "2.5MiB" (2^20). Case does not matter, and neither do
// spaces before the unit. A part of a byte is cut off.
func ParseSize(s string) (int64, error) { return parse(s, ErrSize, "b") }

// ParseCount reads a number of files: "5000", "20k".
func ParseCount(s string) (int64, error) { return parse(s, ErrCount, "") }

func parse(s string, bad error, last string) (int64, error) {
	text := strings.ToLower(strings.TrimSpace(s))
	end := strings.IndexFunc(text, func(r rune) bool { return r != '.' && r != '-' && r != '+' && (r < '0' || r > '9') })
	number, unit := text, ""
	if end >= 0 {
		number, unit = text[:end], strings.TrimSpace(text[end:])
	}
	fail := func(err error) (int64, error) { return 0, fmt.Errorf("%q %w", s, err) }
	value, ok := new(big.Rat).SetString(number)
	if !ok || len(number) > 40 {
		return fail(bad)
	}
	base := int64(1000)
	if last != "" {
		unit = strings.TrimSuffix(unit, last)
		if binary, ok := strings.CutSuffix(unit, "i"); ok && binary != "" {
			unit, base = binary, 1024
		}
	}
	if unit != "" {
		known := false
		for _, u := range units {
			if unit == u.prefix {
				known = true
				value.Mul(value, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(base), big.NewInt(int64(u.power)), nil)))
			}
		}
		if !known {
			return fail(bad)
		}
	}
	if value.Sign() < 0 {
		return fail(ErrNegative)
	}
	whole := new(big.Int).Quo(value.Num(), value.Denom())
	if !whole.IsInt64() || whole.Int64() == math.MaxInt64 {
		return fail(ErrTooBig)
	}
	return whole.Int64(), nil
}

// ExactSize spells a number of bytes as it is typed, to the byte: "20GB", "512MiB", "2500001".
func ExactSize(n int64) string {
	for i := len(units) - 1; n > 0 && i >= 0; i-- {
		for _, unit := range []struct {
			base int64
			last string
		}{{1000, "B"}, {1024, "iB"}} {
			one := int64(1)
			for range units[i].power {
				one *= unit.base
			}
			if n%one == 0 {
				name := strings.ToUpper(units[i].prefix)
				if name == "K" && unit.base == 1000 {
					name = "k"
				}
				return strconv.FormatInt(n/one, 10) + name + unit.last
			}
		}
	}
	return strconv.FormatInt(n, 10)
}

// FormatSize spells a number of bytes for people, in decimal units with at most three digits that matter.
func FormatSize(n int64) string {
	sign, u := "", uint64(n)
	if n < 0 {
		sign, u = "-", -uint64(n)
	}
	if u < 1000 {
		return sign + strconv.FormatUint(u, 10) + " B"
	}
	value, unit := float64(u), -1
	for value >= 999.5 && unit+1 < len(units) {
		value /= 1000
		unit++
	}
	digits := 2
	if value >= 99.95 {
		digits = 0
	} else if value >= 9.995 {
		digits = 1
	}
	text := strconv.FormatFloat(value, 'f', digits, 64)
	if strings.Contains(text, ".") {
		text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	name := strings.ToUpper(units[unit].prefix)
	if unit == 0 {
		name = "k"
	}
	return sign + text + " " + name + "B"
}

// ParseGrace reads how long a grace is: "7d", "36h", "2w", "90m", "0" for none at all.
func ParseGrace(s string) (time.Duration, error) {
	text := strings.ToLower(strings.TrimSpace(s))
	if text == "0" {
		return 0, nil
	}
	for unit, of := range map[string]time.Duration{"w": 7 * 24 * time.Hour, "d": 24 * time.Hour, "h": time.Hour, "m": time.Minute, "s": time.Second} {
		number, ok := strings.CutSuffix(text, unit)
		n, err := strconv.ParseUint(number, 10, 32)
		if !ok || err != nil {
			continue
		}
		if n > uint64(mostGrace/of) {
			return 0, fmt.Errorf("%q: %w", s, ErrGrace)
		}
		return time.Duration(n) * of, nil
	}
	return 0, fmt.Errorf("%q is not a time: write one such as 7d, 36h or 2w", s)
}

// ExactGrace spells a grace as it is typed, to the second: "7d", "36h", "90s", "0".
func ExactGrace(d time.Duration) string {
	for _, unit := range []struct {
		one  time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}} {
		if d > 0 && d%unit.one == 0 {
			return strconv.FormatInt(int64(d/unit.one), 10) + unit.name
		}
	}
	if d == 0 {
		return "0"
	}
	return strconv.FormatInt(int64(d/time.Second), 10) + "s"
}

// FormatGrace spells a time for people, in the two units that matter most: "6d 23h", "45m".
func FormatGrace(d time.Duration) string {
	switch {
	case d < 0:
		return "over"
	case d < time.Minute:
		return strconv.Itoa(int(d/time.Second)) + "s"
	case d < time.Hour:
		return strconv.Itoa(int(d/time.Minute)) + "m"
	case d < 24*time.Hour:
		return two(d, time.Hour, "h", time.Minute, "m")
	}
	return two(d, 24*time.Hour, "d", time.Hour, "h")
}

func two(d, one time.Duration, a string, other time.Duration, b string) string {
	out := strconv.Itoa(int(d/one)) + a
	if rest := d % one / other; rest > 0 {
		out += " " + strconv.Itoa(int(rest)) + b
	}
	return out
}
