package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Adapter is the thing between bench and unit.
type Adapter struct {
	Serial   string       `db:"serial"`
	Name     string       `db:"name"`
	Volts    string       `db:"volts"`
	Inverted bool         `db:"inverted"`
	Firmware string       `db:"firmware"`
	Latency  int          `db:"latency"`
	State    string       `db:"state"`
	Note     string       `db:"note"`
	Tested   sql.NullTime `db:"tested_at"`
	Sound    bool         `db:"sound"`
	By       string       `db:"changed_by"`
	At       time.Time    `db:"changed_at"`
}

// PutAdapter enters an adapter, or what changed about it; its self-test stays.
func (s *Store) PutAdapter(ctx context.Context, a Adapter) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO adapter (serial, name, volts, inverted, firmware, latency, state, note, changed_by, changed_at) VALUES (:serial, :name, :volts, :inverted, :firmware, :latency, :state, :note, :changed_by, :changed_at)
		ON DUPLICATE KEY UPDATE name = VALUES(name), volts = VALUES(volts), inverted = VALUES(inverted), firmware = VALUES(firmware), latency = VALUES(latency), state = VALUES(state), note = VALUES(note), changed_by = VALUES(changed_by), changed_at = VALUES(changed_at)`, a)
	return err
}

// TestedAdapter notes a self-test; an adapter that is not in the list is passed over.
func (s *Store) TestedAdapter(ctx context.Context, serial string, sound bool, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE adapter SET tested_at = ?, sound = ? WHERE serial = ?`, at.UTC(), sound, serial)
	return err
}

// Adapters lists all.
func (s *Store) Adapters(ctx context.Context) (all []Adapter, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Adapter{}, "")+` FROM adapter ORDER BY name, serial`)
	return all, err
}

// AdaptersPage is a page of them by their names.
func (s *Store) AdaptersPage(ctx context.Context, after string, size int) ([]Adapter, Paged, error) {
	return inOrder(ctx, s, named(Adapter{}, ""), "adapter", all, after, size, "name, serial", false, func(a Adapter) []string { return []string{a.Name, a.Serial} })
}

// Adapter finds one by its serial; not ok where nobody has entered it.
func (s *Store) Adapter(ctx context.Context, serial string) (a Adapter, ok bool, err error) {
	err = s.db.GetContext(ctx, &a, `SELECT `+named(Adapter{}, "")+` FROM adapter WHERE serial = ?`, serial)
	if errors.Is(err, sql.ErrNoRows) {
		return a, false, nil
	}
	return a, err == nil, err
}

// Family is how an adapter did with a model.
type Family struct {
	Adapter string `db:"adapter"`
	Model   string `db:"model"`
	Worked  int    `db:"worked"`
	Failed  int    `db:"failed"`
}

// Families counts closed runs by adapter and model. A refusal says nothing of the
// adapter.
func (s *Store) Families(ctx context.Context) (all []Family, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT r.adapter, u.model, COALESCE(SUM(r.outcome IN ('done', 'nothing-to-do')), 0) AS worked, COALESCE(SUM(r.outcome = 'failed'), 0) AS failed
		FROM run r JOIN unit u ON u.id = r.unit WHERE r.adapter <> '' AND r.outcome IN ('done', 'nothing-to-do', 'failed') GROUP BY r.adapter, u.model ORDER BY r.adapter, u.model`)
	return all, err
}

// Lead is the wires as they were joined last on a link.
type Lead struct {
	Bench   string    `db:"bench"`
	Link    string    `db:"link"`
	Adapter string    `db:"adapter"`
	Wires   string    `db:"wires"` // JSON: colours by the unit's pin
	By      string    `db:"looked_by"`
	At      time.Time `db:"looked_at"`
}

// PutLead keeps what somebody saw of the wires on a link.
func (s *Store) PutLead(ctx context.Context, l Lead) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO lead (bench, link, adapter, wires, looked_by, looked_at) VALUES (:bench, :link, :adapter, :wires, :looked_by, :looked_at)
		ON DUPLICATE KEY UPDATE adapter = VALUES(adapter), wires = VALUES(wires), looked_by = VALUES(looked_by), looked_at = VALUES(looked_at)`, l)
	return err
}

// Lead finds the wires of a link.
func (s *Store) Lead(ctx context.Context, bench, link string) (l Lead, err error) {
	err = s.db.GetContext(ctx, &l, `SELECT `+named(Lead{}, "")+` FROM lead WHERE bench = ? AND link = ?`, bench, link)
	return l, none(err, "nobody has looked at the wires of link %q", link)
}

// Delayed keeps how long the driver of an adapter holds bytes back, as its bench
// finds it; an adapter that is not in the list is passed over.
func (s *Store) Delayed(ctx context.Context, serial string, latency int) error {
	_, err := s.db.ExecContext(ctx, `UPDATE adapter SET latency = ? WHERE serial = ? AND latency <> ?`, latency, serial, latency)
	return err
}

// Took lists how long the last runs by a procedure took from opening to close, in
// seconds; those that were done and not interrupted.
func (s *Store) Took(ctx context.Context, modelName, procedure string) (all []float64, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT TIMESTAMPDIFF(MICROSECOND, r.opened_at, r.closed_at) / 1e6 FROM run r JOIN unit u ON u.id = r.unit
		WHERE u.model = ? AND r.card LIKE CONCAT(REPLACE(REPLACE(?, '%', ''), '_', ''), '/%') AND r.outcome = 'done'
		AND NOT EXISTS (SELECT 1 FROM run_event e WHERE e.run = r.id AND e.epoch > 1) ORDER BY r.closed_at DESC LIMIT 40`, modelName, procedure)
	return all, err
}
