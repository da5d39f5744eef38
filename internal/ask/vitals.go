package ask

// Vitals is the name of the item that every ask has unless it says vitals: no: the basic state of each system.
const Vitals = "vitals"

// VitalsSpec is what that item is.
type VitalsSpec struct{ Values []Value }

// Kind is the name of the kind; no ask file chooses it.
func (VitalsSpec) Kind() string { return Vitals }

// Sheet is empty: the sheet says it once for all systems.
func (VitalsSpec) Sheet() []string { return nil }

// VitalsItem gives that item.
func (a *Ask) VitalsItem() *Item {
	return &Item{ID: Vitals, Depth: Light, Why: "the basic state of the system", Spec: VitalsSpec{Values: a.Values}}
}
