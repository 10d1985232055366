// Package files is the namespace on disk, and the only package that touches
// data. It gives every protocol the same operations on behalf of a subject; here
// verdicts bite, and nothing a client sends leads out of its folder.
//
// An open object is a Handle. Each operation on it is checked against the policy
// in force at that moment, so that a change of the rules is felt at the next request.
package files
