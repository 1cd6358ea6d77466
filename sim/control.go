package sim

import (
	"encoding/json"
	"net/http"
	"sort"
	"strings"
)

// Fleet is several units with a switchboard for their faults.
type Fleet map[string]*Unit

// Standing is what the switchboard shows of a unit.
type Standing struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Serial  string `json:"serial"`
	Runs    string `json:"runs"`
	Faults  Faults `json:"faults"`
}

// Standings lists the units by name.
func (f Fleet) Standings() []Standing {
	var all []Standing
	for name, u := range f {
		u.mu.Lock()
		all = append(all, Standing{name, u.Address(), u.Serial, u.version(), u.faults})
		u.mu.Unlock()
	}
	sort.Slice(all, func(i, j int) bool { return all[i].Name < all[j].Name })
	return all
}

// Change is what the switchboard can do to a unit.
type Change struct {
	Faults   *Faults `json:"faults,omitempty"`
	Power    *bool   `json:"power,omitempty"`
	Serial   string  `json:"serial,omitempty"` // another unit is put on the lead
	Revision string  `json:"revision,omitempty"`
	Cycle    bool    `json:"cycle,omitempty"`  // its power is taken off and applied again
	Bridge   *string `json:"bridge,omitempty"` // where a person has bridged the data pins
	Key      *bool   `json:"key,omitempty"`    // of the vehicle that it is in
	Supply   *uint16 `json:"supply,omitempty"` // that feeds the vehicle's modules, in tenths of a volt
	HangUp   int     `json:"hangUp,omitempty"` // its gateway ends the connection after so many more messages
}

// ServeHTTP is the switchboard: GET / lists, POST /NAME takes a Change.
func (f Fleet) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	if r.Method == http.MethodGet {
		json.NewEncoder(w).Encode(f.Standings())
		return
	}
	u, ok := f[r.URL.Path[1:]]
	if !ok {
		http.Error(w, `{"error":"there is no such unit"}`, http.StatusNotFound)
		return
	}
	var c Change
	said := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<16))
	said.DisallowUnknownFields()
	if err := said.Decode(&c); err != nil {
		http.Error(w, `{"error":"the change cannot be read"}`, http.StatusBadRequest)
		return
	}
	if c.Faults != nil {
		u.Set(*c.Faults)
	}
	if c.Power != nil {
		u.Power(*c.Power)
	}
	if c.Cycle {
		u.Power(false)
		u.Power(true)
	}
	if c.Bridge != nil {
		u.Bridge(strings.TrimSuffix(*c.Bridge, "none"))
	}
	if v := u.in(); v != nil && c.Key != nil {
		v.Key(*c.Key)
	}
	if v := u.in(); v != nil && c.Supply != nil {
		v.Supply(*c.Supply)
	}
	if v := u.in(); v != nil {
		v.hangUp(c.HangUp)
	}
	if c.Serial != "" {
		u.Swap(c.Serial, c.Revision, nil)
	}
	json.NewEncoder(w).Encode(f.Standings())
}
