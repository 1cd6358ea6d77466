package store

import "strings"

// right is what the service's account may do to rows of a table that are there already.
type right struct {
	deletes bool
	changes []string // columns
}

// clause is how that is granted.
func (r right) clause() string {
	all := "SELECT, INSERT"
	if r.deletes {
		all += ", DELETE"
	}
	if len(r.changes) > 0 {
		all += ", UPDATE (`" + strings.Join(r.changes, "`, `") + "`)"
	}
	return all
}

func columns(names string) []string { return strings.Fields(names) }

// rights are what it may do beside reading and adding, which it may everywhere: what is not here is
// only added to. They are what the statements of this package do, which a test holds them to.
var rights = map[string]right{
	"adapter":        {false, columns("changed_at changed_by firmware inverted latency name note serial sound state tested_at volts")},
	"backup":         {false, columns("how id length manifest name ruin running signature signed stored_at taken_at unit")},
	"backup_section": {false, columns("backup files how manifest section")},
	"bench":          {false, columns("clock_error earlier_keys name public_key revoked_at seal seen_at signs_at version")},
	"bench_order":    {true, columns("body ended_at result")},
	"bulletin":       {false, columns("ended_at ended_by ended_why")},
	"checkpoint":     {true, nil},
	"claim":          {true, nil},
	"code_text":      {true, nil},
	"consent":        {false, columns("seal")},
	"device_ask":     {true, columns("days decided_at given person polled_at scope seal")},
	"entry_waiting":  {true, nil},
	"evidence":       {false, columns("body")},
	"fact":           {false, columns("seal")},
	"firmware":       {true, columns("added_at channel number seal withdrawn_at withdrawn_by withdrawn_reason words")},
	"firmware_part":  {true, nil},
	"gear":           {false, columns("changed_at changed_by cost expires_at gone_at id kind name note owner uses_left version")},
	"hold":           {false, columns("ended_at ended_by")},
	"job":            {true, columns("asked closed_at closed_by closing person planned reason test")},
	"job_unit":       {true, columns("added_at added_by job left_out part unit why")},
	"judging":        {true, columns("model n serial")},
	"lead":           {true, nil},
	"lease":          {false, columns("holder name until_at")},
	"link":           {true, columns("adapter bench identified_at kind model name unit")},
	"link_absent":    {true, columns("bench name why")},
	"link_slot":      {true, nil},
	"model":          {false, columns("changed_at gist has_settings holds name seal sheet title tried tried_at tried_how")},
	"model_change":   {false, columns("n")},
	"model_answer":   {true, nil},
	"model_secret":   {true, columns("model name put_at put_by sealed")},
	"model_wanted":   {true, columns("seal")},
	"offer":          {false, columns("ended_at ended_by ended_how")},
	"order_told":     {true, columns("at id said")},
	"pack_seen":      {false, columns("dated_at entered_at number series signer")},
	"passkey":        {true, columns("credential seal used_at")},
	"person":         {false, columns("created_at email ended_at factor factor_at factor_next factor_step id name password role seal sites")},
	"person_subject": {false, columns("seal")},
	"profile":        {true, columns("kind name owner put_at put_by sealed value")},
	"run":            {false, columns("bench card closed_at epoch late link model outcome state step summary touched waits")},
	"run_line":       {false, columns("last_n")},
	"run_use":        {true, nil},
	"second_word":    {false, columns("decided_at decided_by decided_why given seal until_at")},
	"secret":         {true, columns("confirmed_at seal seen_at seen_from used_at")},
	"sign_in_failed": {true, nil},
	"site":           {false, columns("changed_at changed_by contact customer facts name note")},
	"team_rule":      {false, columns("name seal set_at set_by value")},
	"swept_to":       {false, columns("at id n what")},
	"tray":           {false, columns("closed_at")},
	"tray_link":      {true, nil},
	"trusted_key":    {false, columns("reason revoked_at revoked_by seal second_by")},
	"unit":           {false, columns("backed customer decided due judge_at judged mistake note owed revision ruined_by running same_as seen_at site state told")},
	"unit_setting":   {true, columns("name public read_at run sealed section unit value")},
	"vehicle_round":  {false, columns("closed_at open_on")},
	"vouch":          {true, columns("seal")},
}

// procedures are what it may have done under the account that brings the schema up to date.
var procedures = []string{"drop_heads", "pack_events"}
