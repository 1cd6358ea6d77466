package core

import (
	"fmt"
	"strings"
	"unicode"
)

// Step is something that a person can do next. Verb is what does it on the command
// line, Page where it is done in the console; core/words knows both. A face shows its
// own of the two.
type Step struct {
	ID   string `json:"id,omitempty" doc:"Of what helps, as core/words lists it."`
	Says string `json:"says" doc:"What to do, in words."`
	// Of those words: their message, and what was put into it.
	SaysID string   `json:"saysId,omitempty" doc:"Of the message in says, as docs/messages.md lists it."`
	Params []string `json:"params,omitempty" doc:"What was put into it, in order."`
	Verb   string   `json:"verb,omitempty" doc:"What does it on the command line."`
	Page   string   `json:"page,omitempty" doc:"Where it is done in the console."`
}

// To is the step with the words that introduce it.
func (s Step) To(format string, args ...any) Step {
	said := Say(format, args...)
	s.Says, s.SaysID, s.Params = said.Text, said.ID, said.Params
	return s
}

// Is tells whether two steps say and do the same.
func (s Step) Is(o Step) bool {
	return s.ID == o.ID && s.Says == o.Says && s.Verb == o.Verb && s.Page == o.Page
}

// Plain is a step that no verb and no page does.
func Plain(format string, args ...any) Step { return Step{}.To(format, args...) }

// Line is the step for the command line and for paper.
func (s Step) Line() string {
	if s.Verb == "" {
		return s.Says
	}
	line := strings.TrimRight(s.Says, ".:") + ": " + s.Verb
	if strings.HasSuffix(line, "…") {
		return line
	}
	return line + "."
}

// Todo is what to do next: the steps, and the same in one text.
type Todo struct {
	Next  string `json:"next,omitempty" doc:"What to do, for the command line."`
	Steps []Step `json:"steps,omitempty" doc:"The same, step by step."`
}

// Todos is a list of steps.
func Todos(steps ...Step) Todo { return Todo{}.And(steps...) }

// And is the list with more steps.
func (t Todo) And(steps ...Step) Todo {
	t.Steps = append([]Step(nil), t.Steps...)
	for _, s := range steps {
		if s.Says == "" {
			continue
		}
		if t.Next != "" {
			t.Next += " "
		}
		t.Next += s.Line()
		t.Steps = append(t.Steps, s)
	}
	return t
}

// Said is a sentence with the id of its message and what was put into it.
type Said struct {
	ID     string   `json:"id,omitempty" doc:"Of the message, as docs/messages.md lists it."`
	Params []string `json:"params,omitempty" doc:"What was put into it, in order."`
	Text   string   `json:"text"`
}

// Say makes a sentence. The format is the message; core/words lists them all.
func Say(format string, args ...any) Said {
	return Said{ID: MessageID(format), Text: fmt.Sprintf(format, args...), Params: putIn(format, args)}
}

// putIn is what was put into a message, each as it stands there: a number in hex is one in hex.
func putIn(format string, args []any) (params []string) {
	if len(args) == 0 {
		return nil
	}
	params = make([]string, len(args))
	for i, a := range args {
		if s, ok := a.(string); ok {
			params[i] = s
		} else {
			params[i] = fmt.Sprint(a)
		}
	}
	n := 0
	for i := strings.IndexByte(format, '%'); i >= 0 && i+1 < len(format); {
		verb := []byte{'%'}
		for i++; i < len(format) && strings.IndexByte("+-# 0123456789.*[]", format[i]) >= 0; i++ {
			switch c := format[i]; {
			case c == '[':
				to := strings.IndexByte(format[i:], ']')
				if to < 0 {
					return params
				}
				fmt.Sscanf(format[i+1:i+to], "%d", &n)
				n, i = n-1, i+to
			case c == '*':
				if n < len(args) {
					verb = fmt.Append(verb, args[n])
				}
				n++
			default:
				verb = append(verb, c)
			}
		}
		if i == len(format) {
			break
		}
		if c := format[i]; c != '%' {
			if n >= 0 && n < len(args) && (len(verb) > 1 || strings.IndexByte("svw", c) < 0) {
				params[n] = fmt.Sprintf(string(append(verb, c)), args[n])
			}
			n++
		}
		next := strings.IndexByte(format[i+1:], '%')
		if next < 0 {
			break
		}
		i += 1 + next
	}
	return params
}

// About is the sentence with what it is about before it.
func (s Said) About(what string) Said {
	s.Params, s.Text = append([]string{what}, s.Params...), what+": "+s.Text
	return s
}

// Fail is the sentence as an error of the kind.
func (s Said) Fail(kind Kind) *Error {
	return &Error{Kind: kind, Message: s.Text, ID: s.ID, Params: s.Params}
}

// UnitState is the state that a unit is in, in the words of a message.
type UnitState struct {
	State       string   `json:"state,omitempty" doc:"The state that the unit is in."`
	StateID     string   `json:"stateId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	StateParams []string `json:"stateParams,omitempty" doc:"What was put into it, in order."`
}

// StateOf is the state that a message tells of.
func StateOf(s Said) UnitState { return UnitState{s.Text, s.ID, s.Params} }

// Texts are some sentences in one string.
func Texts(all []Said, between string) string {
	var s []string
	for _, x := range all {
		s = append(s, x.Text)
	}
	return strings.Join(s, between)
}

// longestID is how much of a message its id has.
const longestID = 64

// MessageID names a message by its own words, in small letters, joined by hyphens, with
// the number of things that are put into it behind them. It is empty for a message that
// has no words of its own. Of a message of one word the name says whether a value leads it:
// "%s runs" is 1-runs.1, "runs %s" is runs.1.
func MessageID(format string) string {
	var b strings.Builder
	gap, puts := false, 0
	for i := 0; i < len(format); i++ {
		c := format[i]
		if c == '%' && i+1 < len(format) {
			for i++; i < len(format) && strings.IndexByte("+-# 0123456789.*[]", format[i]) >= 0; i++ {
			}
			if format[i:] == "" || format[i] != '%' {
				puts++
			}
			gap = true
			continue
		}
		if c < 0x80 && (unicode.IsLetter(rune(c)) || unicode.IsDigit(rune(c))) {
			if b.Len() >= longestID {
				continue
			}
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			gap = false
			b.WriteByte(byte(unicode.ToLower(rune(c))))
			continue
		}
		if c != '\'' {
			gap = true
		}
	}
	if b.Len() == 0 || puts == 0 {
		return b.String()
	}
	if strings.HasPrefix(format, "%") && !strings.Contains(b.String(), "-") {
		return fmt.Sprintf("1-%s.%d", b.String(), puts)
	}
	return fmt.Sprintf("%s.%d", b.String(), puts)
}
