package nfs

import (
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// Delegations of files for reading, RFC 8881 section 10.4, to clients of version 4.1 that can be called back.

const (
	delegateNone = 0
	delegateRead = 1

	wantMask = 0xff00 // of share access: what the client would like of delegations
	wantNone = 0x0400

	mostDelegations = 1024 // of a client
	mostRecalled    = 1 << 14
	// A file whose delegation was recalled gets none for a while: somebody works with it.
	recalledFor = 30 * time.Second
	// A host that did not give one back gets none for so long: others waited for it.
	distrustFor    = 10 * time.Minute
	mostDistrusted = 1 << 12
	// For askedFor a client is asked to give a delegation back, and for unheardOf one that says it has none is believed to have only not heard of it yet.
	unheardOf   = 2 * time.Second
	askedFor    = 30 * time.Second
	recallAgain = 200 * time.Millisecond

	stateRecallableRevoked = 0x40 // SEQ4_STATUS_RECALLABLE_STATE_REVOKED, RFC 8881 section 18.46.3
)

// delegation4 is a file that a client may open for reading by itself.
type delegation4 struct {
	open4
	lease   *files.Lease
	entered bool // guarded by state.mu, as is gone
	gone    bool
}

// delegationKey is by what the files package knows a client's delegations.
type delegationKey struct{ client *client4 }

// mayDelegate says whether a client may have a delegation for what it is about to open. The caller holds mu.
func (st *state) mayDelegate(q *compound, c *client4, a openArgs) bool {
	if q.minor == 0 || a.claim != claimNull && a.claim != claimFH || a.access != shareRead || a.deny != 0 || a.want == wantNone {
		return false
	}
	_, callable := c.back()
	if at, ok := st.distrusted[c.address]; ok && time.Since(at) < distrustFor {
		return false
	}
	return callable && len(c.delegations) < mostDelegations && st.open < st.mostOpen/2
}

// delegate asks for a delegation of a file that has just been opened, within its visit; nil where there is none to be had.
func (q *compound) delegate(c *client4, owner *openOwner, export int64, o *files.Object) *delegation4 {
	st := q.s.state
	fh := handle{export, o.Key()}
	st.mu.Lock()
	at, lately := st.recalled[fh]
	has := c.delegated[fh] != nil
	st.mu.Unlock()
	if has || lately && time.Since(at) < recalledFor || !o.OneName() {
		return nil
	}
	h, err := o.Open(files.OpenRequest{Access: acl.ReadData, Sharing: files.ShareRead | files.ShareWrite | files.ShareDelete, Holder: owner})
	if err != nil {
		return nil
	}
	d := &delegation4{open4: open4{other: st.other(), seq: 1, client: c, by: q.s.guest(q.Call, export), fh: fh, file: h, access: shareRead}}
	d.lease = h.Delegate(delegationKey{c}, func(b files.Break) bool {
		if b.Late || !st.recall(d) {
			st.revokeDelegation(d)
			return false
		}
		return true
	})
	if d.lease == nil {
		_ = h.Drop()
		return nil
	}
	return d
}

// enter notes that a client has a delegation. The caller holds mu.
func (st *state) enter(d *delegation4) {
	d.entered = true
	d.client.delegations[d.other] = d
	d.client.delegated[d.fh] = d
	st.open++
}

// closeDelegation is for one that the client has no more. The caller holds mu.
func (st *state) closeDelegation(d *delegation4) {
	if d.gone {
		return
	}
	d.gone = true
	if d.entered {
		delete(d.client.delegations, d.other)
		delete(d.client.delegated, d.fh)
		st.open--
	}
	st.doomed = append(st.doomed, d.file)
}

// revokeDelegation takes one away from a client that does not give it back.
func (st *state) revokeDelegation(d *delegation4) {
	st.mu.Lock()
	defer st.unlock()
	if !d.gone {
		st.s.Log.Info("a delegation was not given back", "client", d.client.address)
		if len(st.distrusted) >= mostDistrusted {
			clear(st.distrusted)
		}
		st.distrusted[d.client.address] = time.Now()
		st.takeDelegation(d)
	}
}

// takeDelegation takes one away from its client, which is told when it is next heard of. The caller holds mu.
func (st *state) takeDelegation(d *delegation4) {
	if d.entered {
		d.client.note(d.other, stateRecallableRevoked)
	}
	st.closeDelegation(d)
}

// recall asks a client to give a delegation back, until it has heard of it; false where it cannot be asked.
func (st *state) recall(d *delegation4) bool {
	begun := time.Now()
	for time.Since(begun) < st.recallFor {
		st.mu.Lock()
		gone, entered := d.gone, d.entered
		back, callable := d.client.back()
		if len(st.recalled) >= mostRecalled {
			clear(st.recalled)
		}
		st.recalled[d.fh] = time.Now()
		st.mu.Unlock()
		if gone {
			return true
		}
		if entered && callable {
			is, err := back.call(st.ctx, opCBRecall, func(w *onc.Writer) {
				w.Uint32(d.seq)
				w.Fixed(d.other[:])
				w.Bool(false) // it is not about to be cut to nothing, as far as is known
				w.Opaque(st.s.handles.seal(d.fh))
			})
			switch {
			case err != nil:
				st.s.Log.Debug("recall failed", "client", d.client.address, "error", err)
			case is == ok4:
				return true
			case is != err4Delay && time.Since(begun) > unheardOf: // it has none
				st.mu.Lock()
				st.closeDelegation(d)
				st.unlock()
				return true
			}
		}
		select {
		case <-st.ctx.Done():
			return true
		case <-time.After(recallAgain):
		}
	}
	return false
}

// putDelegation writes open_delegation4 (RFC 8881 section 18.16.2); nil for none. Nobody is said to be let in without asking.
func (q *compound) putDelegation(d *delegation4) {
	if d == nil {
		q.w.Uint32(delegateNone)
		return
	}
	q.w.Uint32(delegateRead)
	q.putStateID(stateID{d.seq, d.other})
	q.w.Bool(false) // it is not being recalled already
	for range 3 {
		q.w.Uint32(0) // an entry that allows nothing
	}
	q.w.String("EVERYONE@")
}

// delegReturn is DELEGRETURN, RFC 8881 section 18.6.
func (q *compound) delegReturn() status4 {
	id := q.readStateID()
	id, s := q.given(id)
	if s != ok4 {
		return s
	}
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	if q.client == nil {
		return err4BadStateID
	}
	d := q.client.delegations[id.other]
	if d == nil {
		if _, revoked := q.client.revoked[id.other]; revoked {
			return err4DelegRevoked
		}
		return err4BadStateID
	}
	if h, _ := q.s.handles.open(q.current); h != d.fh || id.seq > d.seq {
		return err4BadStateID
	}
	q.client.renew()
	st.closeDelegation(d)
	return ok4
}

// shortLived has a client that is told what somebody may do with a file for a time only have no delegation of it: it would go on by that.
func (q *compound) shortLived() {
	if q.client == nil {
		return
	}
	st := q.s.state
	st.mu.Lock()
	d := q.client.delegated[q.parsed]
	st.mu.Unlock()
	if d != nil {
		d.lease.Recall()
	}
}

// endDelegations gives up all that a client has. The caller holds mu.
func (st *state) endDelegations(c *client4, revoked bool) {
	for _, d := range c.delegations {
		if revoked {
			st.takeDelegation(d)
		} else {
			st.closeDelegation(d)
		}
	}
}
