package change

// Kind is a kind of change. The names are stable.
type Kind string

// Kinds of changes of modules.
const (
	ModuleAdded   Kind = "module-added"
	ModuleGone    Kind = "module-gone"
	ModuleRenamed Kind = "module-renamed"
)

// Kinds of changes of messages.
const (
	MessageAdded   Kind = "message-added"
	MessageGone    Kind = "message-gone"
	MessageRenamed Kind = "message-renamed"
	MessageMoved   Kind = "message-moved"
)

// Kinds of changes of errors.
const (
	ErrorAdded   Kind = "error-added"
	ErrorGone    Kind = "error-gone"
	ErrorRenamed Kind = "error-renamed"
	ErrorMoved   Kind = "error-moved"
	ErrorStatus  Kind = "error-status-changed"
)

// Kinds of changes of fields.
const (
	FieldAdded      Kind = "field-added"
	FieldGone       Kind = "field-gone"
	FieldRenamed    Kind = "field-renamed"
	FieldRenumbered Kind = "field-renumbered"
	FieldType       Kind = "field-type-changed"
	FieldPresence   Kind = "field-presence-changed"
	FieldDefault    Kind = "field-default-changed"
	FieldBounds     Kind = "field-bounds-changed"
	FieldJSON       Kind = "field-json-name-changed"
	FieldPlace      Kind = "field-place-changed"
)

// Kinds of changes of enums.
const (
	EnumAdded   Kind = "enum-added"
	EnumGone    Kind = "enum-gone"
	EnumRenamed Kind = "enum-renamed"
	EnumMoved   Kind = "enum-moved"
)

// Kinds of changes of members of enums.
const (
	MemberAdded      Kind = "member-added"
	MemberGone       Kind = "member-gone"
	MemberRenamed    Kind = "member-renamed"
	MemberRenumbered Kind = "member-renumbered"
	MemberJSON       Kind = "member-json-name-changed"
)

// Kinds of changes of unions.
const (
	UnionAdded   Kind = "union-added"
	UnionGone    Kind = "union-gone"
	UnionRenamed Kind = "union-renamed"
	UnionMoved   Kind = "union-moved"
)

// Kinds of changes of alternatives of unions.
const (
	AlternativeAdded      Kind = "alternative-added"
	AlternativeGone       Kind = "alternative-gone"
	AlternativeRenamed    Kind = "alternative-renamed"
	AlternativeRenumbered Kind = "alternative-renumbered"
	AlternativeType       Kind = "alternative-type-changed"
	AlternativeJSON       Kind = "alternative-json-name-changed"
)

// Kinds of changes of named types.
const (
	TypeAdded   Kind = "type-added"
	TypeGone    Kind = "type-gone"
	TypeRenamed Kind = "type-renamed"
	TypeMoved   Kind = "type-moved"
	TypeChanged Kind = "type-changed" // what it is over
	TypeBounds  Kind = "type-bounds-changed"
)

// Kinds of changes of constants.
const (
	ConstAdded   Kind = "constant-added"
	ConstGone    Kind = "constant-gone"
	ConstRenamed Kind = "constant-renamed"
	ConstMoved   Kind = "constant-moved"
	ConstChanged Kind = "constant-changed"
)

// Kinds of changes of services.
const (
	ServiceAdded   Kind = "service-added"
	ServiceGone    Kind = "service-gone"
	ServiceRenamed Kind = "service-renamed"
	ServiceMoved   Kind = "service-moved"
)

// Kinds of changes of calls.
const (
	CallAdded    Kind = "call-added"
	CallGone     Kind = "call-gone"
	CallRenamed  Kind = "call-renamed"
	CallMoved    Kind = "call-moved" // to another service
	CallRequest  Kind = "call-request-changed"
	CallHead     Kind = "call-head-changed"
	CallAnswer   Kind = "call-answer-changed"
	CallSafe     Kind = "call-safe-put-on"
	CallUnsafe   Kind = "call-safe-taken-off"
	FailsAdded   Kind = "call-fails-added"
	FailsGone    Kind = "call-fails-gone"
	CallHTTP     Kind = "call-http-changed"
	CallStream   Kind = "call-stream-changed"
	CallNeeds    Kind = "call-needs-changed"
	IdempotentOn Kind = "call-idempotent-put-on"
	IdempotentOf Kind = "call-idempotent-taken-off"
)

// Kinds of changes of credentials.
const (
	CredentialAdded   Kind = "credential-added"
	CredentialGone    Kind = "credential-gone"
	CredentialRenamed Kind = "credential-renamed"
	CredentialMoved   Kind = "credential-moved"
	CredentialChanged Kind = "credential-changed"
)

// Kinds of changes of examples.
const (
	ExampleAdded   Kind = "example-added"
	ExampleGone    Kind = "example-gone"
	ExampleChanged Kind = "example-changed"
)

// Kinds of changes of documentation, marks and retirement.
const (
	Retired       Kind = "retired"
	Freed         Kind = "freed-from-retirement"
	Deprecated    Kind = "deprecated-put-on"
	Undeprecated  Kind = "deprecated-taken-off"
	Documentation Kind = "documentation-changed"
	SecretOn      Kind = "secret-put-on"
	SecretOff     Kind = "secret-taken-off"
	StoredOn      Kind = "stored-put-on"
	StoredOff     Kind = "stored-taken-off"
)
