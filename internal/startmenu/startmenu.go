// Package startmenu gives the desk its place on a machine: an entry in the start menu, its start when the person signs in to the machine,
// and the links of the scheme tarn. All of it is the person's own, and needs no rights; Remove takes it away again.
package startmenu

// Placed is what was put where, for people.
type Placed struct {
	What  string `json:"what"`
	Where string `json:"where"`
}

// name and id are those of the entry.
const (
	name = "Kettle Tarn"
	id   = "kettle-tarn"
)
