// Package words has what is said to people in one place: what helps, with its verb and
// its page; the names of outcomes, conditions, standings, stages and ways back; and the
// list of all messages by id.
package words

import (
	"net/url"
	"strings"

	"zealousferry/core"
)

// Way is something that a person can do, on the command line and in the console. What
// stands in braces is filled in.
type Way struct {
	ID   string `json:"id"`
	Does string `json:"does"`
	Verb string `json:"verb"`
	Page string `json:"page"`
}

// Ways lists all that a message can point to.
var Ways = []Way{
	{"ports", "see which serial ports a bench has", "ferry links --bench {bench}", "/benches"},
	{"links", "see benches, links and what is on them", "ferry links", "/today"},
	{"links-watch", "watch ports come and go", "ferry links --watch", "/benches"},
	{"identify", "find out which unit is on a link", "ferry identify {link}", "/begin/{link}"},
	{"check", "connect and prove a link", "ferry check {link}", "/check/{link}"},
	{"listen", "hear what is on a line", "ferry listen {link}", "/check/{link}"},
	{"check-model", "check a link for a model", "ferry check {link} --model {model}", "/check/{link}"},
	{"fit", "see which releases fit a unit", "ferry fit {unit}", "/units/{unit}"},
	{"note", "note a fact of a unit", "ferry note {unit} {fact}", "/units/{unit}"},
	{"unit-add", "enter a unit", "ferry unit add MODEL SERIAL", "/units"},
	{"card", "read the job card of a unit", "ferry card {unit}", "/card/{unit}"},
	{"flash", "put a release into a unit", "ferry flash {unit} {release} --reason …", "/units/{unit}"},
	{"flash-header", "put a release into a unit through its programming header", "ferry flash {unit} {release} --header BENCH/LINK --label {unit}", "/units/{unit}"},
	{"restore-header", "put a backup back through a unit's programming header", "ferry restore {unit} --header BENCH/LINK --label {unit}", "/units/{unit}"},
	{"backup", "read and keep a unit's memory", "ferry backup {unit}", "/units/{unit}"},
	{"restore", "put a backup back", "ferry restore {unit}", "/units/{unit}"},
	{"backups", "see the backups of a unit", "ferry backups {unit}", "/units/{unit}"},
	{"settings", "see what a unit is set to", "ferry settings show {unit}", "/units/{unit}"},
	{"settings-put", "put settings into a unit", "ferry settings put {unit} --reason …", "/units/{unit}"},
	{"owed-done", "say that what was left at a unit is done", "ferry unit done {unit} --note …", "/units/{unit}"},
	{"set-apart", "set a unit apart", "ferry unit apart {unit} --reason … --place …", "/units/{unit}"},
	{"take-back", "take a unit back that was set apart", "ferry unit take-back {unit} --reason …", "/units/{unit}"},
	{"handover", "see what whoever has a unit next has to know", "ferry handover {unit}", "/handover/{unit}"},
	{"sites", "see the sites", "ferry site list", "/sites"},
	{"units-behind", "see who is behind", "ferry units --state behind --model {model}", "/units?state=behind&model={model}"},
	{"history", "see what happened to a unit", "ferry history {unit}", "/units/{unit}"},
	{"run-show", "look at a run", "ferry run show {run}", "/runs/{run}"},
	{"run-resume", "go on with a run", "ferry run resume {run}", "/runs/{run}"},
	{"run-slower", "go on with a run, at the speed at which its loader is called", "ferry run resume {run} --slower", "/runs/{run}"},
	{"run-label", "go on with a run, with the label read anew", "ferry run resume {run} --label SERIAL", "/runs/{run}"},
	{"run-abandon", "give a run up by name", "ferry run abandon {run} --reason …", "/runs/{run}"},
	{"run-lay-aside", "lay a run aside", "ferry run lay-aside {run} --place … --holder …", "/runs/{run}"},
	{"run-stop", "stop a run", "ferry run stop {run}", "/runs/{run}"},
	{"gear-add", "enter gear that the team has", "ferry gear add KIND NAME", "/gear"},
	{"adapter-set", "enter an adapter, or how it is set", "ferry adapter set {adapter} {setting}", "/adapters"},
	{"quota", "see how much one may send in a day, and let more in", "ferry quota", "/audit"},
	{"bench-list", "see the benches", "ferry bench list", "/benches"},
	{"bench-start", "start a bench", "ferry bench", ""},
	{"bench-enrol", "enrol a bench", "ferry bench enrol --service URL --name NAME", "/benches"},
	{"serve", "start the service", "ferry serve", ""},
	{"renew-key", "renew the service's key", "ferry serve renew-key", ""},
	{"renew-bench-key", "renew a bench's key", "ferry bench renew-key", ""},
	{"migrate", "bring the database up to date", "ferry migrate", ""},
	{"model-add", "put a model sheet in force", "ferry model add SHEET", ""},
	{"model-secret", "enter a secret that a model's units ask for", "ferry model secret {model} {name}", "/models/{model}"},
	{"release-add", "enter a release", "ferry release add MODEL VERSION --part NAME=FILE", "/releases/new"},
	{"release-counts", "say which of two overlapping pieces counts", "ferry release add MODEL VERSION --part NAME=FILE --counts PART=first --because …", "/releases/new"},
	{"release-accept", "accept an unsigned release by name", "ferry release accept {model} {release} --reason …", "/models/{model}"},
	{"release-import", "import a pack and vouch for it", "ferry release import FILE --accept …", ""},
	{"withdraw", "withdraw a release", "ferry release withdraw {model}@{release} --reason …", "/models/{model}"},
	{"key-make", "make a signing key", "ferry key make NAME --file FILE", ""},
	{"key-trust", "trust a signing key", "ferry key trust NAME PUBLIC", "/keys"},
	{"hold-end", "end a hold", "ferry hold end {unit}", "/units/{unit}"},
	{"settings-reset", "put a unit's settings back to their defaults", "ferry settings reset {unit} --reason …", "/units/{unit}"},
	{"second-ask", "ask a lead for leave to do what cannot be taken back", "ferry second ask {unit} --reason …", "/units/{unit}"},
	{"confirm", "show the second factor again", "ferry confirm", "/people"},
	{"sign-in", "sign this machine in", "ferry sign-in", "/let-in"},
	{"consent", "consent to what not every unit may have", "ferry consent {unit} {for} --reason …", "/units/{unit}"},
	{"backup-name", "name a backup", "ferry backups {unit} --name BACKUP=NAME", "/units/{unit}"},
	{"test", "answer a test that is open", "ferry test {unit}", "/units/{unit}"},
	{"scan", "ask all modules of a vehicle", "ferry scan {link}", "/vehicle/{link}"},
	{"round", "go on with a round of a vehicle", "ferry round next {round}", "/rounds/{round}"},
	{"round-done", "say that hands have done what a round wants", "ferry round next {round} --done", "/rounds/{round}"},
	{"round-begin", "begin a round of a vehicle", "ferry round begin {link} --reason …", "/vehicle/{link}"},
	{"round-leave", "leave a turn of a round undone, by name", "ferry round leave {round} --reason …", "/rounds/{round}"},
	{"round-again", "go back to a turn of a round", "ferry round again {round} TURN", "/rounds/{round}"},
	{"round-close", "close a round with what is open", "ferry round close {round} --reason …", "/rounds/{round}"},
	{"tray-work", "follow a tray, and do what it wants first", "ferry tray work {tray}", "/trays/{tray}"},
	{"tray-next", "say that the next unit is on a link", "ferry tray next {tray} {link}", "/trays/{tray}"},
	{"tray-go-on", "go on with a tray that has stopped", "ferry tray go-on {tray} --reason …", "/trays/{tray}"},
	{"tray-again", "let a unit of a tray be begun once more", "ferry tray again {tray} {unit} --reason …", "/trays/{tray}"},
	{"tray-leave", "leave a unit of a tray out", "ferry tray leave {tray} {unit} --reason …", "/trays/{tray}"},
	{"tray-close", "close a tray", "ferry tray close {tray} --reason …", "/trays/{tray}"},
	{"job", "look at a job", "ferry job show {job}", "/jobs/{job}"},
	{"job-add", "enter a job", "ferry job add UNIT… --reason …", "/jobs"},
	{"waive", "pass a gate by name", "--waive {gate} --reason …", ""},
	{"reason", "say why", "--reason …", ""},
	{"lead-at", "say on which link a lead is", "--link {lead}=BENCH/LINK", ""},
	{"of-job", "say for which job it is", "--job NUMBER", ""},
}

// step fills in a way.
func step(id string, params ...string) core.Step {
	for _, w := range Ways {
		if w.ID == id {
			return core.Step{ID: id, Verb: fill(w.Verb, false, params), Page: fill(w.Page, true, params)}
		}
	}
	panic("there is no way " + id)
}

// fill puts parameters into braces, in order. A page has them as parts of its path; one
// that nobody knows (BENCH/LINK, UNIT) leads to where it is chosen.
func fill(template string, page bool, params []string) string {
	var b strings.Builder
	for _, p := range params {
		from, to := strings.IndexByte(template, '{'), strings.IndexByte(template, '}')
		if from < 0 || to < from {
			break
		}
		b.WriteString(template[:from])
		if page {
			if strings.Trim(p, "ABCDEFGHIJKLMNOPQRSTUVWXYZ/") == "" { // BENCH/LINK, UNIT: nobody knows which
				return where[template[:from]]
			}
			parts := strings.Split(p, "/")
			for i := range parts {
				parts[i] = url.PathEscape(parts[i])
			}
			p = strings.Join(parts, "/")
		}
		b.WriteString(p)
		template = template[to+1:]
	}
	return b.String() + template
}

// where it is chosen what a page of the console is about.
var where = map[string]string{"/units/": "/units", "/card/": "/units", "/begin/": "/today", "/check/": "/today", "/runs/": "/today", "/models/": "/releases", "/rounds/": "/today"}

// What helps, by name.

func Ports(bench string) core.Step                  { return step("ports", bench) }
func Scan(link string) core.Step                    { return step("scan", link) }
func Round(round string) core.Step                  { return step("round", round) }
func RoundDone(round string) core.Step              { return step("round-done", round) }
func RoundBegin(link string) core.Step              { return step("round-begin", link) }
func RoundLeave(round string) core.Step             { return step("round-leave", round) }
func RoundAgain(round string) core.Step             { return step("round-again", round) }
func RoundClose(round string) core.Step             { return step("round-close", round) }
func Links() core.Step                              { return step("links") }
func UnitAdd() core.Step                            { return step("unit-add") }
func LinksWatch() core.Step                         { return step("links-watch") }
func Identify(link string) core.Step                { return step("identify", link) }
func Check(link string) core.Step                   { return step("check", link) }
func Listen(link string) core.Step                  { return step("listen", link) }
func CheckModel(link, model string) core.Step       { return step("check-model", link, model) }
func Fit(unit string) core.Step                     { return step("fit", unit) }
func Note(unit, fact string) core.Step              { return step("note", unit, fact) }
func Card(unit string) core.Step                    { return step("card", unit) }
func Flash(unit, release string) core.Step          { return step("flash", unit, release) }
func FlashThrough(unit, release string) core.Step   { return step("flash-header", unit, release, unit) }
func RestoreThrough(unit string) core.Step          { return step("restore-header", unit, unit) }
func Backup(unit string) core.Step                  { return step("backup", unit) }
func Restore(unit string) core.Step                 { return step("restore", unit) }
func Backups(unit string) core.Step                 { return step("backups", unit) }
func Settings(unit string) core.Step                { return step("settings", unit) }
func SettingsReset(unit string) core.Step           { return step("settings-reset", unit) }
func SettingsPut(unit string) core.Step             { return step("settings-put", unit) }
func OwedDone(unit string) core.Step                { return step("owed-done", unit) }
func SetApart(unit string) core.Step                { return step("set-apart", unit) }
func TakeBack(unit string) core.Step                { return step("take-back", unit) }
func HandOver(unit string) core.Step                { return step("handover", unit) }
func Sites() core.Step                              { return step("sites") }
func UnitsBehind(model string) core.Step            { return step("units-behind", model) }
func History(unit string) core.Step                 { return step("history", unit) }
func RunShow(run string) core.Step                  { return step("run-show", run) }
func RunResume(run string) core.Step                { return step("run-resume", run) }
func RunResumeSlower(run string) core.Step          { return step("run-slower", run) }
func RunLabel(run string) core.Step                 { return step("run-label", run) }
func RunAbandon(run string) core.Step               { return step("run-abandon", run) }
func RunLayAside(run string) core.Step              { return step("run-lay-aside", run) }
func RunStop(run string) core.Step                  { return step("run-stop", run) }
func GearAdd() core.Step                            { return step("gear-add") }
func AdapterSet(adapter, setting string) core.Step  { return step("adapter-set", adapter, setting) }
func Quota() core.Step                              { return step("quota") }
func BenchList() core.Step                          { return step("bench-list") }
func BenchStart() core.Step                         { return step("bench-start") }
func BenchEnrol() core.Step                         { return step("bench-enrol") }
func Serve() core.Step                              { return step("serve") }
func RenewKey() core.Step                           { return step("renew-key") }
func RenewBenchKey() core.Step                      { return step("renew-bench-key") }
func Migrate() core.Step                            { return step("migrate") }
func ModelAdd() core.Step                           { return step("model-add") }
func ModelSecret(model, name string) core.Step      { return step("model-secret", model, name) }
func ReleaseAdd() core.Step                         { return step("release-add") }
func ReleaseCounts() core.Step                      { return step("release-counts") }
func ReleaseAccept(model, release string) core.Step { return step("release-accept", model, release) }
func ReleaseImport() core.Step                      { return step("release-import") }
func Withdraw(model, release string) core.Step      { return step("withdraw", model, release) }
func KeyMake() core.Step                            { return step("key-make") }
func KeyTrust() core.Step                           { return step("key-trust") }
func HoldEnd(unit string) core.Step                 { return step("hold-end", unit) }
func SecondAsk(unit string) core.Step               { return step("second-ask", unit) }
func Confirm() core.Step                            { return step("confirm") }
func SignIn() core.Step                             { return step("sign-in") }
func Consent(unit, what string) core.Step           { return step("consent", unit, what) }
func BackupName(unit string) core.Step              { return step("backup-name", unit) }
func Test(unit string) core.Step                    { return step("test", unit) }
func TrayWork(tray string) core.Step                { return step("tray-work", tray) }
func TrayNext(tray, link string) core.Step          { return step("tray-next", tray, link) }
func TrayGoOn(tray string) core.Step                { return step("tray-go-on", tray) }
func TrayAgain(tray, unit string) core.Step         { return step("tray-again", tray, unit) }
func TrayLeave(tray, unit string) core.Step         { return step("tray-leave", tray, unit) }
func TrayClose(tray string) core.Step               { return step("tray-close", tray) }
func Job(number string) core.Step                   { return step("job", number) }
func JobAdd() core.Step                             { return step("job-add") }
func Waive(gate string) core.Step                   { return step("waive", gate) }
func Reason() core.Step                             { return step("reason") }
func LeadAt(lead string) core.Step                  { return step("lead-at", lead) }
func OfJob() core.Step                              { return step("of-job") }
