package compare

import "slices"

// Why is what is known about a kind of fact: what it means on the wire, and for
// code. Verdicts on a change go by the values that it concerns; these sentences
// say by what.
type Why struct {
	Fact Kind
	Wire string // payloads and the HTTP conversation
	Code string // programs against the stubs
}

const (
	harmless    = "holds: nothing that travels changes"
	addedCode   = "holds: what is new is not used yet"
	goneCode    = "breaks: programs that use it no longer compile"
	renamedCode = "breaks, unless the language spells both names alike"
	namesOnly   = "holds: the wire knows numbers and JSON names, not these"
)

var whys = []Why{
	{ModuleAdded, harmless, addedCode},
	{ModuleGone, "what was in it is gone: each of that is a fact of its own", goneCode},
	{ModuleRenamed, "breaks http where calls have their path, or errors their name, from the module; bodies know no module", goneCode},
	{MessageAdded, harmless, addedCode},
	{MessageGone, "breaks where its payloads may be stored, and newer code must read them; calls that used it have facts of their own", goneCode},
	{MessageRenamed, namesOnly, goneCode},
	{MessageMoved, namesOnly, goneCode},
	{ErrorAdded, harmless, addedCode},
	{ErrorGone, "holds by itself: calls that failed with it have facts of their own", goneCode},
	{ErrorRenamed, "breaks http: clients tell errors apart by name, and take it for another problem", goneCode},
	{ErrorMoved, "breaks http: clients tell errors apart by full name, and take it for another problem", goneCode},
	{ErrorStatus, "shifts http: clients go by an error's type, other tools by its status", "holds"},
	{EnumAdded, harmless, addedCode},
	{EnumGone, "holds by itself: fields that held it have facts of their own", goneCode},
	{EnumRenamed, namesOnly, goneCode},
	{EnumMoved, namesOnly, goneCode},
	{TypeAdded, harmless, addedCode},
	{TypeGone, "holds by itself: what was of it has facts of its own", goneCode},
	{TypeRenamed, "holds: a named type travels as what it is over", goneCode},
	{TypeMoved, "holds: a named type travels as what it is over", goneCode},
	{TypeChanged, "breaks where a value that one side writes is refused, or read as another, by the type that the other side has now", "breaks where the language's type for it is another one"},
	{TypeBounds, "in requests breaks where the writer's bounds allow a value that the reader's refuse; elsewhere nobody checks, and a looser writer shifts", "holds"},
	{UnionAdded, harmless, addedCode},
	{UnionGone, "holds by itself: fields that held it have facts of their own", goneCode},
	{UnionRenamed, namesOnly, goneCode},
	{UnionMoved, namesOnly, goneCode},
	{AlternativeAdded, "breaks requests whose reader does not list it (a newer client, an older server); elsewhere it is kept as unlisted", addedCode},
	{AlternativeGone, "breaks requests of older clients to newer servers; elsewhere shifts: it is kept and no longer seen, or no longer written", goneCode},
	{AlternativeRenamed, "breaks JSON, which goes by the name, unless json keeps it; binary goes by the number", renamedCode},
	{AlternativeRenumbered, "breaks binary, which goes by the number; JSON goes by the name", "holds"},
	{AlternativeType, "breaks where a value of the one type is refused, or read as another, as the other type", "breaks where the language's type is another one"},
	{AlternativeJSON, "breaks JSON", "holds"},
	{ConstAdded, harmless, addedCode},
	{ConstGone, harmless, goneCode},
	{ConstRenamed, harmless, goneCode},
	{ConstMoved, harmless, goneCode},
	{ConstChanged, "shifts: both sides go on, with different values", "shifts, or breaks where it has another type"},
	{ServiceAdded, "its calls are facts of their own", addedCode},
	{ServiceGone, "its calls are facts of their own", goneCode},
	{ServiceRenamed, "breaks http where calls have their path from the service's name; a path of their own stays", goneCode},
	{ServiceMoved, "breaks http where calls have their path from the module's name; a path of their own stays", goneCode},
	{FieldAdded, "holds where it may be left out; a required one breaks where its reader is newer than its writer", "an optional or defaulted one holds; a required one breaks where the language demands all fields, and shifts where it starts as a zero value"},
	{FieldGone, "shifts: what an older side writes is kept and no longer seen; where an older reader requires it, breaks", goneCode},
	{FieldRenamed, "breaks JSON, which goes by the name, unless json keeps it; binary goes by the number", renamedCode},
	{FieldRenumbered, "breaks binary, which goes by the number; JSON goes by the name", "holds"},
	{FieldType, "breaks where a value that one side writes is refused, or read as another, by the type that the other side has", "breaks where the language's type is another one"},
	{FieldPresence, "breaks where one side may leave out what the other requires; shifts where a left-out field means something else", "breaks where the language has another type for it, or demands it now"},
	{FieldDefault, "shifts where people leave the field out: it then reads otherwise", "shifts: programs that leave it out mean something else"},
	{FieldBounds, "in requests breaks where the writer's bounds allow a value that the reader's refuse; elsewhere nobody checks, and a looser writer shifts", "holds"},
	{FieldJSON, "breaks JSON", "holds"},
	{FieldPlace, "breaks http: a value that the server looks for elsewhere is not there", "holds"},
	{SecretOn, harmless, "holds"},
	{SecretOff, "shifts: what was kept out of logs may now be in them", "holds"},
	{StoredOn, harmless, "holds"},
	{StoredOff, "shifts: older payloads that are kept somewhere are no longer promised to be read", "holds"},
	{MemberAdded, "breaks requests whose reader does not list it (a newer client, an older server); elsewhere it is kept as unlisted", addedCode},
	{MemberGone, "breaks requests of older clients to newer servers; elsewhere shifts: it is kept and no longer seen, or no longer written", goneCode},
	{MemberRenamed, "breaks JSON, which goes by the name, unless json keeps it; binary goes by the number", renamedCode},
	{MemberRenumbered, "breaks binary, which goes by the number; JSON goes by the name", "holds"},
	{MemberJSON, "breaks JSON", "holds"},
	{CallAdded, "holds where servers lead; where clients may be newer it shifts: an older server answers 404; breaks where a request of it, or of an older call, fits the other's path, too", addedCode},
	{CallGone, "breaks where older clients meet newer servers: they get 404", goneCode},
	{CallRenamed, "breaks http where the path has the call's name; a path of its own stays", renamedCode},
	{CallMoved, "breaks http where the path has the service's name; a path of its own stays", goneCode},
	{CallRequest, "breaks where a request of one message is refused, or read as another, as the other message", "breaks where the language tells the two messages apart"},
	{CallAnswer, "breaks where an answer of one message is refused, or read as another, as the other message", "breaks where the language tells the two messages apart"},
	{CallSafe, "shifts where a newer client may repeat it against an older server", "holds"},
	{CallUnsafe, "shifts where an older client may repeat it against a newer server", "holds"},
	{IdempotentOn, "shifts where a newer client may repeat it against an older server", "holds"},
	{IdempotentOf, "shifts where an older client may repeat it against a newer server", "holds"},
	{CallHTTP, "another method or path breaks http; another status of success shifts it", "holds"},
	{CallStream, "breaks http: a stream travels in another media type, or over a WebSocket", goneCode},
	{CallNeeds, "breaks http where a credential that the client may show is not enough for the server; goes by what carries it, not by its name", "holds"},
	{FailsAdded, "shifts http where an older client meets a newer server: to it, it is another problem", "holds"},
	{FailsGone, "shifts http where a newer client meets an older server, which may still answer it", "holds"},
	{CredentialAdded, harmless, "holds"},
	{CredentialGone, "holds by itself: calls that needed it have facts of their own", "holds"},
	{CredentialRenamed, "holds: what carries it counts, not its name", "shifts: programs show it under a name that no call asks for"},
	{CredentialMoved, "holds: what carries it counts, not its name", "shifts: programs show it under a name that no call asks for"},
	{CredentialChanged, "breaks http where calls need it, and another header, parameter, cookie or scheme carries it", "holds"},
	{ExampleAdded, harmless, "holds"},
	{ExampleGone, harmless, "holds"},
	{ExampleChanged, harmless, "holds"},
	{Retired, harmless, "holds"},
	{Freed, "shifts: older payloads may hold something else under that number or name", "holds"},
	{Deprecated, harmless, "holds, with a hint in editors"},
	{Undeprecated, harmless, "holds"},
	{Documentation, harmless, "holds"},
}

// About is what is known about a kind of fact.
func About(k Kind) (why Why, known bool) {
	i := slices.IndexFunc(whys, func(w Why) bool { return w.Fact == k })
	if i < 0 {
		return why, false
	}
	return whys[i], true
}

// Whys lists what is known about all kinds of facts, by name.
func Whys() []Why {
	list := slices.Clone(whys)
	slices.SortFunc(list, func(a, b Why) int {
		if a.Fact < b.Fact {
			return -1
		}
		return 1
	})
	return list
}

// Kinds lists all kinds of facts, by name.
func Kinds() []string {
	var list []string
	for _, w := range Whys() {
		list = append(list, string(w.Fact))
	}
	return list
}
