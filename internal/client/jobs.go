package client

import (
	"context"
	"fmt"
	"net/url"
	"time"
)

// Job is why work is done, for whom and when.
type Job struct {
	Number  uint64     `json:"number"`
	Reason  string     `json:"reason" doc:"Why it is done: a request, a symptom, a condition."`
	Asked   string     `json:"asked,omitempty" doc:"Who asked for it."`
	Test    string     `json:"test,omitempty" doc:"What counts as done: it is tried at the end of each of its runs, beside the procedure's own tests."`
	Planned string     `json:"planned,omitempty" doc:"Day, as 2027-01-31."`
	Person  string     `json:"person,omitempty" doc:"Who is to do it."`
	Units   int        `json:"units" doc:"How many units are in its scope."`
	Own     bool       `json:"own,omitempty" doc:"A run made it for itself."`
	By      string     `json:"by"`
	At      time.Time  `json:"at"`
	Closed  *time.Time `json:"closed,omitempty"`
	Closer  string     `json:"closer,omitempty"`
	Closing string     `json:"closing,omitempty" doc:"What was said when it was closed."`
}

// Jobs is a page of jobs.
type Jobs struct {
	Jobs []Job `json:"jobs" nullable:"false"`
	Paged
}

// JobPage is a job with its units and how far they are.
type JobPage struct {
	Job
	Scope []JobUnit `json:"scope" nullable:"false"`
	Left  []JobLeft `json:"left" nullable:"false" doc:"Units and parts that it knowingly leaves as they are."`
	Open  int       `json:"open" doc:"How many units of its scope have not come to a good end."`
}

// JobUnit is a unit in the scope of a job.
type JobUnit struct {
	Unit    Unit       `json:"unit"`
	Run     string     `json:"run,omitempty" doc:"The newest run of this job on it."`
	Outcome string     `json:"outcome" doc:"Of that run; empty while it works."`
	Stands  string     `json:"stands" enum:"to-do,at-work,interrupted,done,not-done" doc:"How far the job is with it."`
	Tests   []OpenTest `json:"tests" nullable:"false" doc:"That are still to be passed."`
}

// JobLeft is a unit, or a part of one, that a job leaves as it is.
type JobLeft struct {
	Unit   string    `json:"unit" doc:"Id."`
	Serial string    `json:"serial"`
	Part   string    `json:"part,omitempty" doc:"Section of its model; empty for the whole unit."`
	Why    string    `json:"why"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// NewJob is a job that somebody enters.
type NewJob struct {
	Reason  string     `json:"reason" minLength:"3" maxLength:"400"`
	Asked   string     `json:"asked,omitempty" maxLength:"120"`
	Test    string     `json:"test,omitempty" maxLength:"400"`
	Planned string     `json:"planned,omitempty" maxLength:"10" doc:"Day, as 2027-01-31."`
	Person  string     `json:"person,omitempty" maxLength:"120"`
	Units   []string   `json:"units,omitempty" maxItems:"500" doc:"Ids or serials."`
	Leave   []LeaveOut `json:"leave,omitempty" maxItems:"500"`
}

// LeaveOut is a unit or a part that a job knowingly leaves as it is.
type LeaveOut struct {
	Unit string `json:"unit" minLength:"1" maxLength:"64" doc:"Id or serial."`
	Part string `json:"part,omitempty" maxLength:"40" doc:"Section of its model; the whole unit where it is empty."`
	Why  string `json:"why" minLength:"3" maxLength:"400"`
}

// JobChange changes an open job; what is left out stays.
type JobChange struct {
	Reason  *string    `json:"reason,omitempty" minLength:"3" maxLength:"400"`
	Asked   *string    `json:"asked,omitempty" maxLength:"120"`
	Test    *string    `json:"test,omitempty" maxLength:"400"`
	Planned *string    `json:"planned,omitempty" maxLength:"10"`
	Person  *string    `json:"person,omitempty" maxLength:"120"`
	Units   []string   `json:"units,omitempty" maxItems:"500" doc:"That come into its scope, also those that were left out before."`
	Leave   []LeaveOut `json:"leave,omitempty" maxItems:"500"`
}

// JobClosing closes a job.
type JobClosing struct {
	Note string `json:"note,omitempty" maxLength:"400" doc:"Wanted where a unit of its scope has not come to a good end, or a test is open."`
}

// TakeJob gets what a job wants on the laptop, as a zip file.
func (c *Client) TakeJob(ctx context.Context, number uint64) (zip []byte, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/jobs/%d/take.zip", number), nil, &zip)
	return zip, err
}

// AddJob enters a job.
func (c *Client) AddJob(ctx context.Context, j NewJob) (JobPage, error) {
	return post[JobPage](ctx, c, "/api/jobs", j)
}

// Jobs lists open jobs by their day, or closed ones.
func (c *Client) Jobs(ctx context.Context, state, after string, size int) (Jobs, error) {
	return get[Jobs](ctx, c, "/api/jobs?"+url.Values{"state": {state}, "after": {after}, "size": {fmt.Sprint(size)}}.Encode())
}

// Job is a job by its number.
func (c *Client) Job(ctx context.Context, number uint64) (JobPage, error) {
	return get[JobPage](ctx, c, fmt.Sprintf("/api/jobs/%d", number))
}

// ChangeJob changes an open job.
func (c *Client) ChangeJob(ctx context.Context, number uint64, x JobChange) (JobPage, error) {
	return post[JobPage](ctx, c, fmt.Sprintf("/api/jobs/%d", number), x)
}

// CloseJob closes a job.
func (c *Client) CloseJob(ctx context.Context, number uint64, x JobClosing) (JobPage, error) {
	return post[JobPage](ctx, c, fmt.Sprintf("/api/jobs/%d/close", number), x)
}
