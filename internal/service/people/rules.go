package people

import (
	"context"
	"strings"
	"time"

	"zealousferry/internal/service/frame"
)

// Rules of the team: whether what cannot be taken back wants two persons, and what a rule is where
// nobody has settled it.
const (
	RuleTwo  = "two-persons"
	ruleAuto = "auto"
)

// TwoPersons tells whether what cannot be taken back wants two, and what the team has
// settled about that.
func (v *People) TwoPersons(ctx context.Context) (on bool, rule string, err error) {
	rule, _, _, err = v.store.TeamRule(ctx, RuleTwo)
	if err != nil || rule != "" && rule != ruleAuto {
		return rule == "on", rule, err
	}
	n, err := v.store.Workers(ctx)
	return n > 1, ruleAuto, err
}

// RuleLeads is whether what is to be trusted wants two leads.
const RuleLeads = "two-leads"

// TwoLeads tells whether what is to be trusted wants two leads: keys, a lead's word for images,
// sheets in force. Where nothing else is settled it does if there is more than one.
func (v *People) TwoLeads(ctx context.Context) (on bool, rule string, err error) {
	rule, _, _, err = v.store.TeamRule(ctx, RuleLeads)
	if err != nil || rule != "" && rule != ruleAuto {
		return rule == "on", rule, err
	}
	n, err := v.store.Leads(ctx)
	return n > 1, ruleAuto, err
}

// RuleWaits is what one lead wants a rule to be that wants two persons: of what is settled so, one
// alone does not take it away. It stands in the database as what he wants, and who he is.
func RuleWaits(name string) string { return name + "-wanted" }

// waitLasts is how long a second lead may take to say the same.
const waitLasts = 24 * time.Hour

// OffWaits tells whether a lead wants a rule off and a second one is waited for.
func (v *People) OffWaits(ctx context.Context, name string) (by string, err error) {
	wants, _, at, err := v.store.TeamRule(ctx, RuleWaits(name))
	if err != nil || wants == "" || v.clock.Now().Sub(at) > waitLasts {
		return "", err
	}
	_, by, _ = strings.Cut(wants, " ")
	return by, nil
}

// Settles tells whether a rule is settled by this lead's word: that what wants two persons no
// longer does wants two leads, where there are two.
func (v *People) Settles(ctx context.Context, name, to string) (bool, error) {
	on, _, err := v.TwoPersons(ctx)
	if name == RuleLeads {
		on, _, err = v.TwoLeads(ctx)
	}
	if err != nil || !on || to != "off" {
		return err == nil, err
	}
	if n, err := v.store.Leads(ctx); err != nil || n < 2 {
		return err == nil, err
	}
	by, err := v.OffWaits(ctx, name)
	return by != "" && by != frame.Who(ctx).Person.ID, err
}
