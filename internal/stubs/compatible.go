package stubs

import (
	"fmt"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
)

// CodeRule says what a kind of change does to code in one language: it returns the
// verdict, with lines that no longer compile when that is a break, and a sentence when it
// is not plain.
type CodeRule func(c *change.Change) (verdict.Verdict, []string, string)

// CodeRules are the rules of one language. A kind of change that has none does nothing to
// code.
type CodeRules struct {
	Fails        string                   // what code does that breaks: "no longer compiles"
	Users        map[change.Kind]CodeRule // of types
	Callers      map[change.Kind]CodeRule
	Implementers map[change.Kind]CodeRule // of services
}

// Always is a rule of what breaks, with the lines that prove it.
func Always(lines func(*change.Change) []string) CodeRule {
	return func(c *change.Change) (verdict.Verdict, []string, string) { return verdict.Breaking, lines(c), "" }
}

// When is Always, where something is so.
func When(breaks func(*change.Change) bool, lines func(*change.Change) []string) CodeRule {
	return func(c *change.Change) (verdict.Verdict, []string, string) {
		if !breaks(c) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, lines(c), ""
	}
}

// CredentialMoved tells of programs that show a credential under a name that no call
// knows any more.
func CredentialMoved(c *change.Change) (verdict.Verdict, []string, string) {
	return verdict.Altering, nil, fmt.Sprintf("code compiles, and shows the credential under a name that no call "+
		"asks for any more: it is %s now", c.New)
}

// RawMoved is a rule of a field that became the body as it is, or is that no longer: its type
// and what its message can do are other ones then.
func RawMoved(lines func(*change.Change) []string) CodeRule {
	return When(func(c *change.Change) bool { return c.Field.Old.IsRaw() != c.Field.New.IsRaw() }, lines)
}

// RawAdded tells a field that is added and is the body as it is: its message has no codec then.
func RawAdded(c *change.Change) bool {
	return c.Field.New.IsRaw() && len(c.Field.New.Message.Fields) > 0
}

// DefaultMoved tells of programs that leave out a field whose default is another one.
func DefaultMoved(c *change.Change) (verdict.Verdict, []string, string) {
	return verdict.Altering, nil, fmt.Sprintf("code that leaves it out compiles, and means %s instead of %s", c.New, c.Old)
}

// goneByName are the kinds of changes that leave no declaration under the name that
// programs use.
var goneByName = map[change.Kind]change.Kind{
	change.ModuleRenamed:  change.ModuleGone,
	change.MessageRenamed: change.MessageGone, change.MessageMoved: change.MessageGone,
	change.ErrorRenamed: change.ErrorGone, change.ErrorMoved: change.ErrorGone,
	change.EnumRenamed: change.EnumGone, change.EnumMoved: change.EnumGone,
	change.TypeRenamed: change.TypeGone, change.TypeMoved: change.TypeGone,
	change.UnionRenamed: change.UnionGone, change.UnionMoved: change.UnionGone,
	change.ConstRenamed: change.ConstGone, change.ConstMoved: change.ConstGone,
	change.ServiceRenamed: change.ServiceGone, change.ServiceMoved: change.ServiceGone,
}

// JudgeCode says what a change does to code in a language: to users of types, to callers
// and to implementers apart; nothing is said of what goes on as before.
func JudgeCode(l Language, c *change.Change) (effects []*verdict.Effect) {
	kind := c.Kind
	if gone, ok := goneByName[kind]; ok {
		kind = gone // to programs, what has another name is gone
	}
	rules := l.Compatible()
	for _, concerned := range []struct {
		who, what string
		rules     map[change.Kind]CodeRule
	}{
		{"users", "code that uses it", rules.Users},
		{"callers", "code that calls it", rules.Callers},
		{"implementers", "code that implements it", rules.Implementers},
	} {
		rule := concerned.rules[kind]
		if rule == nil {
			continue
		}
		v, lines, sentence := rule(c)
		if v == verdict.Compatible {
			continue
		}
		e := &verdict.Effect{Covers: l.Name(), Position: verdict.Code, Who: concerned.who, NewReads: true, Verdict: v,
			Sentence: sentence}
		if v == verdict.Breaking {
			e.Sentence = concerned.what + " " + rules.Fails
			e.Proof = &verdict.Proof{Code: lines}
		}
		effects = append(effects, e)
	}
	return effects
}
