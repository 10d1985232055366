// Package smb answers SMB 2.1, 3.0, 3.0.2 and 3.1.1 over TCP (MS-SMB2). It translates:
// what a client may do is decided below the files package, never here.
//
// One goroutine reads a connection's frames and does what must be in order
// (negotiation, sessions, trees); the rest of the requests run beside each other, as
// many at once as maxParallel. Every message of a signed-in session is signed, both ways.
package smb
