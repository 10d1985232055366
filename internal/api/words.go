package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/validation"
)

// What is said of a request whose fields are not as they should be, in our words.
func init() {
	validation.MsgUnexpectedProperty = "there is no such field"
	validation.MsgExpectedRFC3339DateTime = "it takes a time such as 2026-03-01T18:00:00Z"
	validation.MsgExpectedMatchAtLeastOneSchema = "it is of none of the kinds that it may be"
	validation.MsgExpectedMatchExactlyOneSchema = "it is of none of the kinds that it may be"
	validation.MsgExpectedBoolean = "it takes true or false"
	validation.MsgExpectedNumber = "it takes a number"
	validation.MsgExpectedInteger = "it takes a whole number"
	validation.MsgExpectedString = "it takes a text"
	validation.MsgExpectedBase64String = "it takes base64"
	validation.MsgExpectedArray = "it takes a list"
	validation.MsgExpectedObject = "it takes an object"
	validation.MsgExpectedArrayItemsUnique = "something is in it twice"
	validation.MsgExpectedOneOf = "it takes one of \"%s\""
	validation.MsgExpectedMinimumNumber = "it is less than %.15g"
	validation.MsgExpectedExclusiveMinimumNumber = "it is not more than %.15g"
	validation.MsgExpectedMaximumNumber = "it is more than %.15g"
	validation.MsgExpectedExclusiveMaximumNumber = "it is not less than %.15g"
	validation.MsgExpectedMinLength = "it is shorter than %d characters"
	validation.MsgExpectedMaxLength = "it is longer than %d characters"
	validation.MsgExpectedBePattern = "it takes %s"
	validation.MsgExpectedMatchPattern = "it is not of the form %s"
	validation.MsgExpectedMinItems = "there are fewer than %d"
	validation.MsgExpectedMaxItems = "there are more than %d"
	validation.MsgExpectedRequiredProperty = "%s is missing"
	validation.MsgExpectedDependentRequiredProperty = "%s is missing, which %s needs"
}

// inOurWords has formats say in our words what is wrong with a text.
func inOurWords(formats map[string]huma.Format) map[string]huma.Format {
	out := maps.Clone(formats)
	for name, f := range out {
		read := f.Unmarshal
		f.Unmarshal = func(data []byte, v any) error { return notJSON(read(data, v), len(data)) }
		out[name] = f
	}
	return out
}

// notJSON says where a text is no JSON, or of what kind it should be.
func notJSON(err error, length int) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.As(err, &syntax) && syntax.Offset >= int64(length):
		return errors.New("it is no JSON: it ends before it should")
	case errors.As(err, &syntax):
		return fmt.Errorf("it is no JSON: something is wrong at byte %d", syntax.Offset)
	case errors.As(err, &kind):
		return errors.New("a number in it is too large")
	}
	return errors.New("it is no JSON")
}
