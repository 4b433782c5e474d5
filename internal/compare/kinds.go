package compare

import (
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/wire"
)

// entry is all that there is to say of one kind of change. Its name and what it is about
// are in package change.
type entry struct {
	kind  change.Kind
	added bool // something is there that was not: that asks for a minor version
	// Why it matters, on the wire and for programs against the stubs, in general. Verdicts on a
	// change go by the values that it concerns; these sentences say by what.
	wire, code string
	// judge adds what a walk through payloads does not find; nil for nothing.
	judge func(*wire.Judge, *change.Change)
	// fixes drafts how to get the same end without a break, what keeps most of it first.
	fixes func(fixer, *Change) []*Fix
	// edit finds the edit that ends a break, or prevents one, and keeps what the change is for.
	edit func(finder, *Change) (remedy, bool)
}

const (
	harmless    = "compatible: nothing that travels changes"
	addedCode   = "compatible: what is new is not used yet"
	goneCode    = "breaking: programs that use it no longer compile"
	renamedCode = "breaking, unless the language spells both names alike"
	namesOnly   = "compatible: the wire knows numbers and JSON names, not these"
)

// entries are the kinds of changes, each once.
var entries = []entry{
	{kind: change.ModuleAdded, added: true,
		wire: harmless, code: addedCode,
	},
	{kind: change.ModuleGone,
		wire: "what was in it is gone: each of that is a change of its own", code: goneCode,
	},
	{kind: change.ModuleRenamed,
		wire:  "breaking over HTTP where calls have their path, or errors their name, from the module; bodies know no module",
		code:  goneCode,
		judge: (*wire.Judge).Renamed,
	},
	{kind: change.MessageAdded, added: true,
		wire: harmless, code: addedCode,
	},
	{kind: change.MessageGone,
		wire: "breaking where its payloads may be stored, and newer code must read them; calls that used it have changes " +
			"of their own",
		code:  goneCode,
		judge: (*wire.Judge).MessageGone, fixes: fixer.fixDeclaration,
	},
	{kind: change.MessageRenamed,
		wire: namesOnly, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.MessageMoved,
		wire: namesOnly, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.ErrorAdded, added: true,
		wire: harmless, code: addedCode,
	},
	{kind: change.ErrorGone,
		wire: "compatible by itself: calls that failed with it have changes of their own", code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.ErrorRenamed,
		wire: "breaking over HTTP: clients tell errors apart by name, and take it for another problem", code: goneCode,
		judge: (*wire.Judge).ErrorRenamed, fixes: fixer.fixDeclaration,
	},
	{kind: change.ErrorMoved,
		wire: "breaking over HTTP: clients tell errors apart by full name, and take it for another problem", code: goneCode,
		judge: (*wire.Judge).ErrorRenamed, fixes: fixer.fixDeclaration,
	},
	{kind: change.ErrorStatus,
		wire: "altering in http: clients go by an error's type, other tools by its status", code: "compatible",
		judge: (*wire.Judge).ErrorStatus, fixes: fixer.fixDeclaration,
	},
	{kind: change.EnumAdded, added: true,
		wire: harmless, code: addedCode,
	},
	{kind: change.EnumGone,
		wire: "compatible by itself: fields of it have changes of their own", code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.EnumRenamed,
		wire: namesOnly, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.EnumMoved,
		wire: namesOnly, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.TypeAdded, added: true,
		wire: harmless, code: addedCode,
	},
	{kind: change.TypeGone,
		wire: "compatible by itself: what was of it has changes of their own", code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.TypeRenamed,
		wire: "compatible: a named type travels as what it is over", code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.TypeMoved,
		wire: "compatible: a named type travels as what it is over", code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.TypeChanged,
		wire: "breaking where a value that one side writes is refused, or read as another, by the type that the other " +
			"side has now",
		code:  "breaking where the language's type for it is another one",
		fixes: fixer.fixDeclaration,
	},
	{kind: change.TypeBounds,
		wire: "breaking in requests where the writer's bounds allow a value that the reader's refuse; elsewhere nobody " +
			"checks, and a looser writer is altering",
		code:  "compatible",
		fixes: fixer.fixDeclaration,
	},
	{kind: change.UnionAdded, added: true,
		wire: harmless, code: addedCode,
	},
	{kind: change.UnionGone,
		wire: "compatible by itself: fields of it have changes of their own", code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.UnionRenamed,
		wire: namesOnly, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.UnionMoved,
		wire: namesOnly, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.AlternativeAdded, added: true,
		wire: "breaking for requests whose reader does not list it (a newer client, an older server); elsewhere it is " +
			"preserved " +
			"as unlisted",
		code:  addedCode,
		fixes: fixer.fixAdded,
	},
	{kind: change.AlternativeGone,
		wire: "breaking for requests of older clients to newer servers; elsewhere altering: it is preserved and no " +
			"longer seen, " +
			"or no longer written",
		code:  goneCode,
		fixes: fixer.fixGone, edit: finder.retire,
	},
	{kind: change.AlternativeRenamed,
		wire:  "breaking in JSON, which goes by the name, unless json keeps it; binary goes by the number",
		code:  renamedCode,
		fixes: fixer.fixItem, edit: finder.nameInJSON,
	},
	{kind: change.AlternativeRenumbered,
		wire: "breaking in binary, which goes by the number; JSON goes by the name", code: "compatible",
		fixes: fixer.fixItem, edit: finder.numberBack,
	},
	{kind: change.AlternativeType,
		wire:  "breaking where a value of the one type is refused, or read as another, as the other type",
		code:  "breaking where the language's type is another one",
		fixes: fixer.fixItem,
	},
	{kind: change.AlternativeJSON,
		wire: "breaking in JSON", code: "compatible",
		fixes: fixer.fixItem, edit: finder.nameInJSONBack,
	},
	{kind: change.ConstAdded, added: true,
		wire: harmless, code: addedCode,
	},
	{kind: change.ConstGone,
		wire: harmless, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.ConstRenamed,
		wire: harmless, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.ConstMoved,
		wire: harmless, code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.ConstChanged,
		wire: "altering: both sides go on, with different values", code: "altering, or breaking where it has another type",
		judge: (*wire.Judge).Valued, fixes: fixer.fixDeclaration,
	},
	{kind: change.ServiceAdded, added: true,
		wire: "its calls are changes of their own", code: addedCode,
	},
	{kind: change.ServiceGone,
		wire: "its calls are changes of their own", code: goneCode,
		fixes: fixer.fixDeclaration,
	},
	{kind: change.ServiceRenamed,
		wire:  "breaking over HTTP where calls have their path from the service's name; a path of their own stays",
		code:  goneCode,
		judge: (*wire.Judge).Renamed, fixes: fixer.fixDeclaration,
	},
	{kind: change.ServiceMoved,
		wire:  "breaking over HTTP where calls have their path from the module's name; a path of their own stays",
		code:  goneCode,
		judge: (*wire.Judge).Renamed, fixes: fixer.fixDeclaration,
	},
	{kind: change.FieldAdded, added: true,
		wire: "compatible where it may be left out; a required one is breaking where its reader is newer than its writer",
		code: "an optional or defaulted one is compatible; a required one is breaking where the language demands all " +
			"fields, and is altering where it starts as a zero value",
		fixes: fixer.fixAdded, edit: finder.makeOptional,
	},
	{kind: change.FieldGone,
		wire: "altering: what an older side writes is preserved and no longer seen; where an older reader requires " +
			"it, breaking",
		code:  goneCode,
		fixes: fixer.fixGone, edit: finder.retire,
	},
	{kind: change.FieldRenamed,
		wire:  "breaking in JSON, which goes by the name, unless json keeps it; binary goes by the number",
		code:  renamedCode,
		fixes: fixer.fixField, edit: finder.nameInJSON,
	},
	{kind: change.FieldRenumbered,
		wire: "breaking in binary, which goes by the number; JSON goes by the name", code: "compatible",
		fixes: fixer.fixField, edit: finder.numberBack,
	},
	{kind: change.FieldType,
		wire: "breaking where a value that one side writes is refused, or read as another, by the type that the " +
			"other side has",
		code:  "breaking where the language's type is another one",
		fixes: fixer.fixField,
	},
	{kind: change.FieldPresence,
		wire: "breaking where one side may leave out what the other requires; altering where a left-out field means " +
			"something else",
		code:  "breaking where the language has another type for it, or demands it now",
		fixes: fixer.fixField,
	},
	{kind: change.FieldDefault,
		wire:  "altering where people leave the field out: it then reads otherwise",
		code:  "altering: programs that leave it out mean something else",
		fixes: fixer.fixField,
	},
	{kind: change.FieldBounds,
		wire: "breaking in requests where the writer's bounds allow a value that the reader's refuse; elsewhere nobody " +
			"checks, and a looser writer is altering",
		code:  "compatible",
		fixes: fixer.fixField,
	},
	{kind: change.FieldJSON,
		wire: "breaking in JSON", code: "compatible",
		fixes: fixer.fixField, edit: finder.nameInJSONBack,
	},
	{kind: change.FieldPlace,
		wire:  "breaking over HTTP: a value that is looked for elsewhere is not there, or a body is read as another one",
		code:  "compatible; breaking where a field becomes a raw body, or is one no longer",
		fixes: fixer.fixField,
	},
	{kind: change.SecretOn,
		wire: harmless, code: "compatible",
	},
	{kind: change.SecretOff,
		wire: "altering: what was left out of logs may now be in them", code: "compatible",
		judge: (*wire.Judge).SecretOff,
	},
	{kind: change.StoredOn,
		wire: harmless, code: "compatible",
	},
	{kind: change.StoredOff,
		wire: "altering: older payloads that are stored somewhere are no longer promised to be read", code: "compatible",
		judge: (*wire.Judge).StoredOff,
	},
	{kind: change.MemberAdded, added: true,
		wire: "breaking for requests whose reader does not list it (a newer client, an older server); elsewhere it is " +
			"preserved " +
			"as unlisted",
		code:  addedCode,
		fixes: fixer.fixAdded,
	},
	{kind: change.MemberGone,
		wire: "breaking for requests of older clients to newer servers; elsewhere altering: it is preserved and no " +
			"longer seen, " +
			"or no longer written",
		code:  goneCode,
		fixes: fixer.fixGone, edit: finder.retire,
	},
	{kind: change.MemberRenamed,
		wire:  "breaking in JSON, which goes by the name, unless json keeps it; binary goes by the number",
		code:  renamedCode,
		fixes: fixer.fixItem, edit: finder.nameInJSON,
	},
	{kind: change.MemberRenumbered,
		wire: "breaking in binary, which goes by the number; JSON goes by the name", code: "compatible",
		fixes: fixer.fixItem, edit: finder.numberBack,
	},
	{kind: change.MemberJSON,
		wire: "breaking in JSON", code: "compatible",
		fixes: fixer.fixItem, edit: finder.nameInJSONBack,
	},
	{kind: change.CallAdded, added: true,
		wire: "compatible where servers lead; altering where clients may be newer: an older server answers 404; breaking " +
			"where a request of it, or of an older call, fits the other's path, too",
		code:  addedCode,
		judge: (*wire.Judge).CallAdded, fixes: fixer.fixCallAdded,
	},
	{kind: change.CallGone,
		wire: "breaking where older clients meet newer servers: they get 404", code: goneCode,
		judge: (*wire.Judge).CallGone, fixes: fixer.fixCallGone,
	},
	{kind: change.CallRenamed,
		wire: "breaking over HTTP where the path has the call's name; a path of its own stays", code: renamedCode,
		judge: (*wire.Judge).Renamed, fixes: fixer.fixCallRenamed, edit: finder.pathKept,
	},
	{kind: change.CallMoved,
		wire: "breaking over HTTP where the path has the service's name; a path of its own stays", code: goneCode,
		judge: (*wire.Judge).Renamed,
	},
	{kind: change.CallRequest,
		wire:  "breaking where a request of one message is refused, or read as another, as the other message",
		code:  "breaking where the language tells the two messages apart",
		fixes: fixer.fixCall,
	},
	{kind: change.CallHead,
		wire: "breaking over HTTP where what one head says is refused, or read as something else, as the other; no head " +
			"is a head without fields",
		code:  goneCode,
		fixes: fixer.fixCall,
	},
	{kind: change.CallAnswer,
		wire:  "breaking where an answer of one message is refused, or read as another, as the other message",
		code:  "breaking where the language tells the two messages apart",
		fixes: fixer.fixCall,
	},
	{kind: change.CallSafe,
		wire: "altering where a newer client may repeat it against an older server", code: "compatible",
		judge: (*wire.Judge).RepeatPutOn,
	},
	{kind: change.CallUnsafe,
		wire: "altering where an older client may repeat it against a newer server", code: "compatible",
		judge: (*wire.Judge).RepeatTakenOff,
	},
	{kind: change.IdempotentOn,
		wire: "altering where a newer client may repeat it against an older server", code: "compatible",
		judge: (*wire.Judge).RepeatPutOn,
	},
	{kind: change.IdempotentOf,
		wire: "altering where an older client may repeat it against a newer server", code: "compatible",
		judge: (*wire.Judge).RepeatTakenOff,
	},
	{kind: change.CallHTTP,
		wire: "another method or path is breaking over HTTP; another status of success is altering", code: "compatible",
		judge: (*wire.Judge).Route, fixes: fixer.fixCall,
	},
	{kind: change.CallStream,
		wire: "breaking over HTTP: a stream travels in another media type, or over a WebSocket", code: goneCode,
		judge: (*wire.Judge).Stream, fixes: fixer.fixCall,
	},
	{kind: change.CallNeeds,
		wire: "breaking over HTTP where a credential that the client may show is not enough for the server; goes by what " +
			"carries it, not by its name",
		code:  "compatible",
		fixes: fixer.fixNeeds,
	},
	{kind: change.FailsAdded, added: true,
		wire: "altering in http where an older client meets a newer server: to it, it is another problem", code: "compatible",
		judge: (*wire.Judge).FailsAdded,
	},
	{kind: change.FailsGone,
		wire: "altering in http where a newer client meets an older server, which may still answer it", code: "compatible",
		judge: (*wire.Judge).FailsGone,
	},
	{kind: change.CredentialAdded, added: true,
		wire: harmless, code: "compatible",
	},
	{kind: change.CredentialGone,
		wire:  "compatible by itself: calls that needed it have changes of their own",
		code:  "breaking in TypeScript, whose compiler knows the names; compatible elsewhere",
		fixes: fixer.fixDeclaration,
	},
	{kind: change.CredentialRenamed,
		wire:  "compatible: what carries it counts, not its name",
		code:  "altering: programs show it under a name that no call asks for; TypeScript's compiler refuses that",
		fixes: fixer.fixDeclaration,
	},
	{kind: change.CredentialMoved,
		wire:  "compatible: what carries it counts, not its name",
		code:  "altering: programs show it under a name that no call asks for; TypeScript's compiler refuses that",
		fixes: fixer.fixDeclaration,
	},
	{kind: change.CredentialChanged,
		wire:  "breaking over HTTP where calls need it, and another header, parameter, cookie or scheme carries it",
		code:  "compatible",
		fixes: fixer.fixDeclaration,
	},
	{kind: change.ExampleAdded, added: true,
		wire: harmless, code: "compatible",
	},
	{kind: change.ExampleGone,
		wire: harmless, code: "compatible",
	},
	{kind: change.ExampleChanged,
		wire: harmless, code: "compatible",
	},
	{kind: change.Retired,
		wire: harmless, code: "compatible",
	},
	{kind: change.Freed,
		wire: "altering: older payloads may contain something else under that number or name", code: "compatible",
		judge: (*wire.Judge).Freed,
	},
	{kind: change.Deprecated,
		wire: harmless, code: "compatible, with a hint in editors",
	},
	{kind: change.Undeprecated,
		wire: harmless, code: "compatible",
	},
	{kind: change.Documentation,
		wire: harmless, code: "compatible",
	},
}

// entryOf is the entry of a kind; nil for what is not a kind of change.
func entryOf(k change.Kind) *entry {
	for i := range entries {
		if entries[i].kind == k {
			return &entries[i]
		}
	}
	return nil
}

// Why is what there is to say of a kind of change: what it means on the wire, and for
// programs.
type Why struct {
	Kind change.Kind
	Wire string // payloads and the HTTP conversation
	Code string // programs against the stubs
}

// About is what there is to say of a kind of change.
func About(k change.Kind) (why Why, known bool) {
	e := entryOf(k)
	if e == nil {
		return why, false
	}
	return Why{k, e.wire, e.code}, true
}

// Whys lists what there is to say of all kinds of changes, by name.
func Whys() (list []Why) {
	for _, e := range entries {
		list = append(list, Why{e.kind, e.wire, e.code})
	}
	slices.SortFunc(list, func(a, b Why) int { return strings.Compare(string(a.Kind), string(b.Kind)) })
	return list
}

// Kinds lists all kinds of changes, by name.
func Kinds() (list []string) {
	for _, w := range Whys() {
		list = append(list, string(w.Kind))
	}
	return list
}
