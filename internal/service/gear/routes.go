package gear

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Gear) Routes(api huma.API) {
	frame.Route(v.Frame, api, "GET", "/api/gear", "list-gear", frame.Viewer, "Adapters, cables, software and entitlements that the team has", v.listGear)
	frame.Route(v.Frame, api, "POST", "/api/gear", "put-gear", frame.Technician, "Add or change a thing that the team has", v.putGear)
	frame.Route(v.Frame, api, "POST", "/api/gear/{gear}/drop", "drop-gear", frame.Technician, "Take a thing off the list", v.dropGear)
}
