package service

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// routes is the table of the API: who may call what.
func (v *Service) routes(api huma.API) {
	v.Benches.Routes(api)
	v.Rounds.Routes(api)
	v.Runs.Routes(api)
	v.Units.Routes(api)
	v.Links.Routes(api)
	v.Catalogue.Routes(api)
	v.Gear.Routes(api)
	v.Evidence.Routes(api)
	v.People.Routes(api)

	frame.Route(v.Frame, api, "GET", "/api/today", "today", frame.Viewer, "What is unfinished, and what was closed lately", v.today)

}
