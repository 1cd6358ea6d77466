package client

import (
	"context"

	"zealousferry/core/admit"
	"zealousferry/core/rehearse"
)

// NewRehearsal says what is to be rehearsed.
type NewRehearsal struct {
	At      string `json:"at" minLength:"1" maxLength:"120" doc:"A unit's serial or id, or a link."`
	Release string `json:"release,omitempty" maxLength:"64" doc:"Version or id; the recommended one where it is empty."`
	Again   bool   `json:"again,omitempty" doc:"Write although it runs this version."`
	Sheet   string `json:"sheet,omitempty" maxLength:"1048576" doc:"A sheet of the unit's model that is not in force, as YAML; the one in force where it is empty."`

	ByHand  bool             `json:"byHand,omitempty" doc:"A person goes through it: it stands where an answer of his is wanted."`
	Answers []NewAnswer      `json:"answers,omitempty" maxItems:"300" doc:"His answers so far, in their order; those to the item 'stopped' are choices of the advice. One more goes on."`
	Trouble rehearse.Trouble `json:"trouble,omitempty" enum:"line,start" doc:"What goes wrong, to practise it: the line breaks while the unit is written; the program does not start."`
}

// Rehearsal is how a run went on a twin of a unit, made from its backup.
type Rehearsal struct {
	Unit    string           `json:"unit" doc:"Serial."`
	ID      string           `json:"id" doc:"Of the unit."`
	Site    string           `json:"site,omitempty"`
	From    string           `json:"from" doc:"The version that the backup has."`
	Version string           `json:"version" doc:"Of the release."`
	Well    bool             `json:"well" doc:"It ends right: done, or nothing to do."`
	Sheet   string           `json:"sheet,omitempty" doc:"Digest of the sheet that it went by, where that is not in force."`
	Result  *rehearse.Result `json:"result,omitempty" doc:"How it went; none where no twin could be made. Times are nanoseconds, at the pace of the line."`
	No      string           `json:"no,omitempty" doc:"Why no twin could be made."`
	Kind    string           `json:"kind,omitempty"`
	Bars    []admit.Bar      `json:"bars" nullable:"false" doc:"What would stop the run itself before it begins, but for the link."`
	Backup  string           `json:"backup,omitempty" doc:"Of which the twin was made."`
	Took    int64            `json:"took" doc:"Of the rehearsal itself, ms."`
}

// RehearseFleet asks for rehearsals of a release over the backups of the units of its model.
type RehearseFleet struct {
	After string `json:"after,omitempty" maxLength:"64" doc:"The unit after which to go on, as the answer before has it; empty begins."`
	Limit int    `json:"limit,omitempty" minimum:"1" maximum:"25" doc:"At most so many units at once; 10 where nothing is said."`
}

// Rehearsals are some of a fleet's.
type Rehearsals struct {
	Version    string      `json:"version"`
	Model      string      `json:"model"`
	Units      int         `json:"units" doc:"Of the model, in all."`
	Rehearsals []Rehearsal `json:"rehearsals" nullable:"false"`
	Next       string      `json:"next,omitempty" doc:"After which to go on; empty at the end."`
}

// Rehearse does a run on a twin.
func (c *Client) Rehearse(ctx context.Context, n NewRehearsal) (Rehearsal, error) {
	return post[Rehearsal](ctx, c, "/api/rehearsals", n)
}

// RehearseRelease rehearses a release over backups, some units at a time.
func (c *Client) RehearseRelease(ctx context.Context, release string, f RehearseFleet) (Rehearsals, error) {
	return post[Rehearsals](ctx, c, "/api/releases/"+segment(release)+"/rehearsals", f)
}
