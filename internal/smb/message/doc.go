// Package message has the messages of SMB 2 and 3 as structs: each request and response of MS-SMB2 section 2.2, and the information
// that goes in them, of MS-FSCC section 2.
//
// Parse takes a whole message, header included, because offsets in messages count from there; it is given what came from the network
// and answers ErrMalformed to what is not such a message. What it gives refers to the bytes it was given. Append puts a body after a
// header of HeaderSize bytes that b begins with, and what Parse then gives is what was appended.
package message
