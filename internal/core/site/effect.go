package site

// Effect is something that has to happen on disk once a draft is written down. Doing it twice is doing it once.
type Effect struct {
	Act    EffectAct `json:"act"`
	Volume Location  `json:"volume,omitzero"` // MakeDirectory: where; MarkVolume and UnmarkVolume: its directory
	Mark   string    `json:"mark,omitzero"`   // MarkVolume and UnmarkVolume
	Folder int64     `json:"folder,omitzero"` // SetMode
	Path   string    `json:"path,omitzero"`   // below the volume's directory, or the folder
	To     string    `json:"to,omitzero"`     // RenameOwn: what it is called then
	Mode   *uint32   `json:"mode,omitzero"`   // SetMode: nil leaves what there is, as of the others
	UID    *uint32   `json:"uid,omitzero"`
	GID    *uint32   `json:"gid,omitzero"`
}

// EffectAct is what an effect does.
type EffectAct string

// What effects do.
const (
	MakeDirectory EffectAct = "make directory"
	SetMode       EffectAct = "set mode"
	MarkVolume    EffectAct = "mark volume"
	UnmarkVolume  EffectAct = "unmark volume"
	RenameOwn     EffectAct = "rename own directory"
)

// Do has something be done on disk once the draft is written down, after what was said before.
func (d *Draft) Do(e Effect) { d.effects = append(d.effects, e) }

// Effects is what is to be done on disk, in this order.
func (d *Draft) Effects() []Effect { return d.effects }
