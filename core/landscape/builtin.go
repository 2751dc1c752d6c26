package landscape

import "slices"

// The names of the gates that every move has.
const (
	GateOrder   = "order"
	GateDrift   = "drift"
	GateFreeze  = "freeze"
	GateBooking = "booking"
	GateOwed    = "owed"
	GateControl = "control"
	GateAgain   = "again"
	GateLane    = "lane"
	GateWindow  = "window"
	GateProof   = "proof"
)

// BuiltIn reports whether a name is that of a gate that every move has: no gate of a project may be called so.
func BuiltIn(name string) bool {
	return slices.Contains([]string{GateOrder, GateDrift, GateFreeze, GateBooking, GateOwed, GateControl, GateAgain, GateLane, GateWindow,
		GateProof}, name)
}
