package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Job is why work is done, for whom and when.
type Job struct {
	Number  uint64       `db:"number"`
	Reason  string       `db:"reason"`
	Asked   string       `db:"asked"`
	Test    string       `db:"test"`
	Planned sql.NullTime `db:"planned"`
	Person  string       `db:"person"` // name of who is to do it
	Own     bool         `db:"own"`    // a run made it for itself
	By      string       `db:"made_by"`
	At      time.Time    `db:"made_at"`
	Closer  string       `db:"closed_by"`
	Closed  sql.NullTime `db:"closed_at"`
	Closing string       `db:"closing"` // what was said when it was closed
	Units   int          `db:"units"`   // in its scope
	Turn    int64        `db:"turn"`    // in lists
}

var jobColumns = named(Job{}, "j.", "units") + `, (SELECT COUNT(*) FROM job_unit x WHERE x.job = j.number AND x.part = '' AND x.left_out = 0) AS units`

// JobUnit is a unit of a job, or a part of one.
type JobUnit struct {
	Job     uint64    `db:"job"`
	Unit    string    `db:"unit"`
	Part    string    `db:"part"` // empty for the whole unit
	LeftOut bool      `db:"left_out"`
	Why     string    `db:"why"`
	By      string    `db:"added_by"`
	At      time.Time `db:"added_at"`
}

// AddJob enters a job and gives it its number.
func (s *Store) AddJob(ctx context.Context, j Job, scope []JobUnit) (number uint64, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		number, err = addJob(ctx, tx, j, scope)
		return err
	})
	return number, err
}

func addJob(ctx context.Context, tx *sqlx.Tx, j Job, scope []JobUnit) (uint64, error) {
	r, err := tx.NamedExecContext(ctx, `INSERT INTO job (reason, asked, test, planned, person, own, made_by, made_at) VALUES (:reason, :asked, :test, :planned, :person, :own, :made_by, :made_at)`, j)
	if err != nil {
		return 0, err
	}
	n, err := r.LastInsertId()
	if err != nil {
		return 0, err
	}
	for i := range scope {
		scope[i].Job = uint64(n)
	}
	return uint64(n), putScope(ctx, tx, scope)
}

// DropJob takes a job away that a run made for itself and that could not begin.
func (s *Store) DropJob(ctx context.Context, number uint64) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `CALL drop_job(?)`, number)
		return err
	})
}

func putScope(ctx context.Context, tx *sqlx.Tx, scope []JobUnit) error {
	for _, x := range scope {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO job_unit (job, unit, part, left_out, why, added_by, added_at) VALUES (:job, :unit, :part, :left_out, :why, :added_by, :added_at)
			ON DUPLICATE KEY UPDATE left_out = VALUES(left_out), why = VALUES(why), added_by = VALUES(added_by), added_at = VALUES(added_at)`, x); err != nil {
			return err
		}
	}
	return nil
}

// ChangeJob changes an open job and adds to its scope.
func (s *Store) ChangeJob(ctx context.Context, j Job, scope []JobUnit) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return changeJob(ctx, tx, j, scope) })
}

func changeJob(ctx context.Context, tx *sqlx.Tx, j Job, scope []JobUnit) error {
	if _, err := tx.NamedExecContext(ctx, `UPDATE job SET reason = :reason, asked = :asked, test = :test, planned = :planned, person = :person, closed_by = :closed_by, closed_at = :closed_at, closing = :closing WHERE number = :number`, j); err != nil {
		return err
	}
	for i := range scope {
		scope[i].Job = j.Number
	}
	return putScope(ctx, tx, scope)
}

// Job finds one by its number.
func (s *Store) Job(ctx context.Context, number uint64) (j Job, err error) {
	err = s.db.GetContext(ctx, &j, `SELECT `+jobColumns+` FROM job j WHERE j.number = ?`, number)
	if err = none(err, "there is no job %d", number); err != nil {
		e := core.AsError(err, core.NotFound)
		return j, e.Go(words.JobAdd().To("Enter one"))
	}
	return j, nil
}

// JobsOf finds the jobs of runs, by number.
func (s *Store) JobsOf(ctx context.Context, numbers []uint64) (map[uint64]Job, error) {
	out := map[uint64]Job{}
	if len(numbers) == 0 {
		return out, nil
	}
	q, args, err := sqlx.In(`SELECT `+jobColumns+` FROM job j WHERE j.number IN (?)`, numbers)
	if err != nil {
		return out, err
	}
	var all []Job
	err = s.db.SelectContext(ctx, &all, q, args...)
	for _, j := range all {
		out[j.Number] = j
	}
	return out, err
}

// Jobs lists a page of the jobs that people entered: open ones by their planned day, closed ones
// the newest first.
func (s *Store) Jobs(ctx context.Context, closed bool, after string, size int) (all []Job, p Paged, err error) {
	of := selection{where: []string{"j.own = 0"}}
	of.add("j.shut = ?", closed)
	return inTurn(ctx, s, jobColumns, "job j", "job j", of, after, size, "j.turn", "j.number", func(j Job) cursor { return cursor{j.Turn, fmt.Sprint(j.Number)} })
}

// OpenJobsOf lists the open jobs that a unit is in the scope of; what is left out of
// them, too.
func (s *Store) OpenJobsOf(ctx context.Context, unit string) (all []Job, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+jobColumns+` FROM job j WHERE j.own = 0 AND j.closed_at IS NULL
		AND EXISTS (SELECT 1 FROM job_unit x WHERE x.job = j.number AND x.unit = ? AND x.part = '' AND x.left_out = 0) ORDER BY j.planned IS NULL, j.planned, j.number`, unit)
	return all, err
}

// Scope lists the units of a job.
func (s *Store) Scope(ctx context.Context, number uint64) (all []JobUnit, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(JobUnit{}, "")+` FROM job_unit WHERE job = ? ORDER BY added_at, unit, part`, number)
	return all, err
}
