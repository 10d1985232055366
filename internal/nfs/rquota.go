package nfs

import (
	"errors"
	"math"
	"time"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// The remote quota protocol, by which clients ask how much somebody may store: versions 1, for users, and 2, for users and groups. It
// has no standard; what is here is what the rquota.x that comes with ONC RPC implementations says. Nothing is set by it.
const (
	programRQuota = 100011

	rquotaGet       = 1
	rquotaGetActive = 2
	rquotaMostPath  = 1024

	quotaOK     = 1
	quotaNone   = 2
	quotaDenied = 3

	quotaOfUsers  = 0
	quotaOfGroups = 1
)

func (s *Server) serveRQuota(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	switch c.Procedure {
	case 0:
		return onc.Success
	case rquotaGet, rquotaGetActive:
	default:
		return onc.ProcUnavail
	}
	path, kind := c.Args.String(rquotaMostPath), uint32(quotaOfUsers)
	if c.Version == 2 {
		kind = c.Args.Uint32()
	}
	number := c.Args.Uint32()
	if c.Args.Err() != nil {
		return onc.GarbageArgs
	}
	e, _ := s.exportHolding(path)
	if e == nil || kind != quotaOfUsers && kind != quotaOfGroups {
		w.Uint32(quotaNone)
		return onc.Success
	}
	ask := s.Files.UserQuota
	if kind == quotaOfGroups {
		ask = s.Files.GroupQuota
	}
	q, err := ask(s.guest(c, e.ID), number)
	switch {
	case errors.Is(err, files.ErrDenied):
		w.Uint32(quotaDenied)
	case err != nil || !q.Limited:
		w.Uint32(quotaNone)
	default:
		w.Uint32(quotaOK)
		putRQuota(w, &q)
	}
	return onc.Success
}

// putRQuota writes an rquota. Its numbers have 32 bits, and its blocks are as large as that makes them. What is bounded by 0 is
// bounded by 1 there: 0 is no bound.
func putRQuota(w *onc.Writer, q *files.Quota) {
	most := q.Use.Bytes
	for _, b := range []*int64{q.SoftBytes, q.HardBytes} {
		if b != nil {
			most = max(most, *b)
		}
	}
	block := int64(1024)
	for block < 1<<30 && most/block >= math.MaxUint32 {
		block *= 2
	}
	blocks := func(n int64) uint32 { return uint32(min(max(n, 0)/block+min(max(n, 0)%block, 1), math.MaxUint32)) }
	bound := func(b *int64, of func(int64) uint32) uint32 {
		if b == nil {
			return 0
		}
		return max(of(*b), 1)
	}
	number := func(n int64) uint32 { return uint32(min(max(n, 0), math.MaxUint32)) }
	left := func(d limit.Dimension) uint32 { return number(int64(q.Left[d] / time.Second)) }
	w.Uint32(uint32(block))
	w.Bool(true)
	w.Uint32(bound(q.HardBytes, blocks))
	w.Uint32(bound(q.SoftBytes, blocks))
	w.Uint32(blocks(q.Use.Bytes))
	w.Uint32(bound(q.HardFiles, number))
	w.Uint32(bound(q.SoftFiles, number))
	w.Uint32(number(q.Use.Files))
	w.Uint32(left(limit.Bytes))
	w.Uint32(left(limit.Files))
}
