package store

import (
	"encoding/json"
	"slices"
	"strings"
)

// clause is how the rights to a table are granted.
func clause(table string) string {
	all := "SELECT"
	if !slices.Contains(notAdding, table) {
		all += ", INSERT"
	}
	if changes := rights[table]; len(changes) > 0 {
		all += ", UPDATE (`" + strings.Join(changes, "`, `") + "`)"
	}
	return all
}

func columns(names string) []string { return strings.Fields(names) }

// rights are the columns that the service's account may change, beside reading and adding, which it may
// everywhere: what is not here is only added to. They are what the statements of this package do, which a
// test holds them to. It deletes nothing: what goes does so by procedures.
var rights = map[string][]string{
	"adapter":        columns("changed_at changed_by firmware inverted latency name note serial sound state tested_at volts"),
	"backup":         columns("how id length manifest name ruin running signature signed stored_at taken_at unit"),
	"backup_section": columns("backup files how manifest section"),
	"bench":          columns("clock_error earlier_keys name public_key revoked_at seal seen_at signs_at version"),
	"bench_order":    columns("body ended_at result"),
	"bulletin":       columns("ended_at ended_by ended_why"),
	"checkpoint":     columns("hour signed size"),
	"code_text":      columns("code model put_at put_by says"),
	"consent":        columns("seal"),
	"device_ask":     columns("days decided_at given person polled_at scope seal"),
	"evidence":       columns("body"),
	"fact":           columns("seal"),
	"firmware":       columns("added_at channel number seal withdrawn_at withdrawn_by withdrawn_reason words"),
	"gear":           columns("changed_at changed_by cost expires_at gone_at id kind name note owner uses_left version"),
	"hold":           columns("ended_at ended_by"),
	"job":            columns("asked closed_at closed_by closing person planned reason test"),
	"job_unit":       columns("added_at added_by job left_out part unit why"),
	"judging":        columns("model n serial"),
	"lead":           columns("adapter bench link looked_at looked_by wires"),
	"lease":          columns("holder name until_at"),
	"link":           columns("adapter bench identified_at kind model name unit"),
	"link_absent":    columns("bench name why"),
	"link_slot":      columns("bench identified_at model name slot unit"),
	"model":          columns("changed_at gist has_settings holds name seal sheet title tried tried_at tried_how"),
	"model_change":   columns("n"),
	"model_secret":   columns("model name put_at put_by sealed"),
	"model_wanted":   columns("name seal sheet wanted_at wanted_by"),
	"offer":          columns("ended_at ended_by ended_how"),
	"order_told":     columns("at id said"),
	"pack_seen":      columns("dated_at entered_at number series signer"),
	"passkey":        columns("credential seal used_at"),
	"person":         columns("created_at email ended_at factor factor_at factor_next factor_step id name password role seal sites"),
	"person_subject": columns("seal"),
	"piece_waiting":  columns("asked_at"),
	"profile":        columns("kind name owner put_at put_by sealed value"),
	"run":            columns("bench card closed_at epoch late link model outcome state step summary touched waits"),
	"run_line":       columns("last_n"),
	"run_trace":      columns("body"),
	"second_word":    columns("decided_at decided_by decided_why given seal until_at"),
	"secret":         columns("confirmed_at seal seen_at seen_from used_at"),
	"sent":           columns("amount caller day told what"),
	"site":           columns("changed_at changed_by contact customer facts name note"),
	"swept_to":       columns("at id n what"),
	"team_rule":      columns("name seal set_at set_by value"),
	"tray":           columns("closed_at"),
	"trusted_key":    columns("reason revoked_at revoked_by seal second_by"),
	"unit":           columns("backed customer decided due judge_at judged mistake note owed revision ruined_by running same_as seen_at site state told"),
	"unit_setting":   columns("name public read_at run sealed section unit value"),
	"vehicle_round":  columns("closed_at open_on"),
	"vouch":          columns("seal"),
}

// notAdding are the tables to which it adds nothing.
var notAdding = columns("goose_db_version piece_waiting schema_promise")

// ownDeletes is the first schema whose services delete nothing themselves; deleting are the tables of which
// those of earlier ones do.
const ownDeletes = 30

// deletes tells whether the service's account may delete rows of a table, as services of some schema need
// it that may still run.
func deletes(table string, oldest int64) bool {
	return oldest < ownDeletes && slices.Contains(deleting, table)
}

var deleting = columns("bench_order checkpoint claim code_text device_ask entry_waiting firmware firmware_part job job_unit judging lead link link_absent link_slot model_answer model_secret model_wanted order_told passkey profile run_use secret sign_in_failed tray_link unit_setting vouch")

// procedures are what it may have done under the account that brings the schema up to date.
var procedures = columns(`answers_anew assembly_changed cut_audit_log drop_code_text drop_heads drop_job drop_model_secret drop_profile_value
	end_access end_asking end_bench end_passkey end_secret end_sessions give_back_claims give_back_uses have_places judged links_gone
	order_ended order_opened pack_events pieces_named pieces_wait settings_read_anew sheet_in_force signed_in slots_empty sweep_asking sweep_failed
	sweep_orders sweep_pieces sweep_secrets sweep_sent take_out tray_over unit_elsewhere`)

// listed gives many values to a procedure.
func listed[T any](values []T) string {
	b, _ := json.Marshal(values) // texts and numbers
	return string(b)
}
