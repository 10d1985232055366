package api

import (
	"fmt"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/core/plain"
)

// plainText refuses control and bidirectional characters in what an administrator types: a request whose fields are
// a struct with, or without, a Body. What is laid out in lines is tagged format:"lines", and only those
// may have line feeds and tabs; passwords may be anything, and so may paths, which are named as they are.
func plainText(in any) error {
	v := reflect.ValueOf(in)
	for v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	if v.Kind() != reflect.Struct {
		return nil
	}
	body := v.FieldByName("Body")
	if !body.IsValid() {
		return nil
	}
	return plainFields(body, "body", "")
}

func plainFields(v reflect.Value, at, format string) error {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			return plainFields(v.Elem(), at, format)
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 { // raw JSON is another request's
			return nil
		}
		for i := range v.Len() {
			if err := plainFields(v.Index(i), fmt.Sprintf("%s[%d]", at, i), format); err != nil {
				return err
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if !f.IsExported() || name == "-" || f.Tag.Get("format") == "password" || pathFields[name] {
				continue
			}
			if name != "" {
				name = at + "." + name
			} else {
				name = at
			}
			if err := plainFields(v.Field(i), name, f.Tag.Get("format")); err != nil {
				return err
			}
		}
	case reflect.String:
		check := plain.Check
		if format == "lines" {
			check = plain.CheckLines
		}
		if err := check(v.String()); err != nil {
			return &Problem{ErrorModel: huma.ErrorModel{Status: 422, Title: "Unprocessable Entity", Detail: err.Error(),
				Errors: []*huma.ErrorDetail{{Location: at, Message: err.Error()}}}}
		}
	}
	return nil
}

// pathFields name what lies on disk, where names are not the administrator's to choose, or another request.
var pathFields = map[string]bool{"path": true, "from": true, "to": true, "ask": true, "below": true}
