package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"unicode/utf8"

	"amber.example/gatekeeper/internal/core/plain"
)

// What storage users, and clients, call things is printed, and must do nothing to the terminal: it can
// neither begin a line nor move the cursor nor turn the writing round. Values are spelled out before
// they are laid out, and all that is written goes through a filter besides.

// spelled is a copy of an answer in which every text shows itself; what is tagged format:"lines" keeps its lines.
func spelled[T any](v T) T {
	raw, err := json.Marshal(v)
	if err != nil {
		return v
	}
	var out T
	if json.Unmarshal(raw, &out) != nil {
		return v
	}
	spell(reflect.ValueOf(&out).Elem(), "")
	return out
}

func spell(v reflect.Value, format string) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() && v.Kind() == reflect.Pointer {
			spell(v.Elem(), format)
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			spell(v.Index(i), format)
		}
	case reflect.Map:
		if v.Type().Elem().Kind() == reflect.String {
			for _, k := range v.MapKeys() {
				v.SetMapIndex(k, reflect.ValueOf(plain.Text(v.MapIndex(k).String())).Convert(v.Type().Elem()))
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() {
				spell(v.Field(i), f.Tag.Get("format"))
			}
		}
	case reflect.String:
		if !v.CanSet() {
			return
		}
		if format == "lines" {
			v.SetString(plain.Lines(v.String()))
		} else {
			v.SetString(plain.Text(v.String()))
		}
	}
}

// filter passes on text as it may be printed. A character that is split over two writes is kept until the second.
type filter struct {
	to   io.Writer
	rest []byte // the beginning of a character, at most three bytes
}

func (f *filter) Write(p []byte) (int, error) {
	text := append(f.rest, p...)
	whole := len(text)
	for back := 1; back <= min(utf8.UTFMax-1, len(text)); back++ {
		if first := text[len(text)-back]; utf8.RuneStart(first) {
			if !utf8.FullRune(text[len(text)-back:]) {
				whole = len(text) - back
			}
			break
		}
	}
	_, err := io.WriteString(f.to, plain.Printed(string(text[:whole])))
	f.rest = bytes.Clone(text[whole:])
	return len(p), err
}

// encode writes JSON in which what does not show itself is escaped, so that it can be looked at as well as read.
func encode(w io.Writer, v any) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetIndent("", "  ")
	if err := enc.Encode(v); err != nil {
		return err
	}
	var out bytes.Buffer
	for raw := b.Bytes(); len(raw) > 0; {
		r, n := utf8.DecodeRune(raw)
		switch {
		case r == '\n' || plain.Safe(r): // the encoder's own line feeds: those in texts are escaped already
			out.Write(raw[:n])
		case r > 0xffff: // a pair, RFC 8259 section 7
			r -= 0x10000
			fmt.Fprintf(&out, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
		raw = raw[n:]
	}
	_, err := out.WriteTo(w)
	return err
}
