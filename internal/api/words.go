package api

import "github.com/danielgtaylor/huma/v2/validation"

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
	validation.MsgExpectedMinimumNumber = "it is less than %v"
	validation.MsgExpectedExclusiveMinimumNumber = "it is not more than %v"
	validation.MsgExpectedMaximumNumber = "it is more than %v"
	validation.MsgExpectedExclusiveMaximumNumber = "it is not less than %v"
	validation.MsgExpectedMinLength = "it is shorter than %d characters"
	validation.MsgExpectedMaxLength = "it is longer than %d characters"
	validation.MsgExpectedBePattern = "it takes %s"
	validation.MsgExpectedMatchPattern = "it is not of the form %s"
	validation.MsgExpectedMinItems = "there are fewer than %d"
	validation.MsgExpectedMaxItems = "there are more than %d"
	validation.MsgExpectedRequiredProperty = "%s is missing"
	validation.MsgExpectedDependentRequiredProperty = "%s is missing, which %s needs"
}
