package site

import "amber.example/gatekeeper/internal/core/limit"

// Notices says when people are told how they stand with limits, and by what letters. The zero Notices is the default.
type Notices struct {
	Percent   []int             `json:"percent"` // marks; nil for limit.DefaultPercent
	NoGrace   bool              `json:"noGrace,omitzero"`
	Mail      Mail              `json:"mail,omitzero"`
	Templates map[string]string `json:"templates,omitempty"` // by the names of the notice package; others are the default ones
}

// Mail is where mail is handed in. Server is HOST:PORT, "" for none: nobody is sent any.
type Mail struct {
	Server   string `json:"server,omitzero"`
	Security string `json:"security,omitzero"` // one of the notice package's
	From     string `json:"from,omitzero"`
	User     string `json:"user,omitzero"`
	Password int64  `json:"password,omitzero"` // the number of the secret; 0 for none
	Trust    string `json:"trust,omitzero"`    // certificates of those who may vouch for it, PEM; "" for those the host trusts
}

// Hook is a web address that is called with what is told. The whole address is a secret, as many receivers know by it who may call;
// Site is its scheme and host.
type Hook struct {
	ID   int64  `json:"id,omitzero"`
	Name string `json:"name,omitzero"`
	Site string `json:"site,omitzero"`
	Off  bool   `json:"off,omitzero"`
	// Secret is the number of its whole address and of what its messages are signed with.
	Secret int64 `json:"secret,omitzero"`
}

// Marks are when somebody is told.
func (n *Notices) Marks() limit.Marks {
	m := limit.Marks{Percent: n.Percent, Grace: !n.NoGrace}
	if n.Percent == nil {
		m.Percent = limit.DefaultPercent
	}
	return m
}
