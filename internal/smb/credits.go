package smb

// creditWindow is which message IDs a client may use, MS-SMB2 section 3.3.1.1:
// those it has been granted and has not used yet.
type creditWindow struct {
	low  uint64              // every ID below is used
	high uint64              // the first not granted
	used map[uint64]struct{} // at or above low
}

func newCreditWindow() creditWindow {
	return creditWindow{high: 1, used: make(map[uint64]struct{})}
}

// take uses up charge IDs from id on; false if the client may not use them.
func (w *creditWindow) take(id uint64, charge uint16) bool {
	n := uint64(max(charge, 1))
	if id < w.low || id >= w.high || n > w.high-id {
		return false
	}
	for i := range n {
		if _, used := w.used[id+i]; used {
			return false
		}
	}
	for i := range n {
		w.used[id+i] = struct{}{}
	}
	for {
		if _, used := w.used[w.low]; !used {
			return true
		}
		delete(w.used, w.low)
		w.low++
	}
}

// grant gives the client more, as near to what it asks for as is allowed, and
// never leaves it without any.
func (w *creditWindow) grant(asked uint16) uint16 {
	inHand := w.high - w.low - uint64(len(w.used))
	n := uint64(max(asked, 1))
	if room := uint64(maxCredits); inHand+n > room {
		n = room - min(inHand, room)
	}
	// A client that holds on to an old ID must not make the window grow for ever.
	if w.high+n-w.low > 8*maxCredits {
		n = 0
	}
	w.high += n
	return uint16(n)
}
