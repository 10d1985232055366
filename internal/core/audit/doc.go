// Package audit says what everybody may do, at once. Where package access walks the gates for
// one person, this evaluates each list of entries once for all people, as sets with one bit for
// each user: an allow is an OR, a deny an AND-NOT. Who can, what can she, the matrix, the
// findings, and what a change would do are views of that.
//
// It is the one deliberate second way to decide, and a property test holds it to the first.
// It is pure: no clock, no storage, no network; time and the facts of the disk come in.
package audit
