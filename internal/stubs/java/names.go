package java

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// keywords are the words that no name may be; members are the methods that every object has, and verbs
// those that every message has. A field or call of one of them gets a trailing "_". The lists are frozen.
var (
	keywords = strings.Fields(`abstract assert boolean break byte case catch char class const continue default do double
		else enum extends false final finally float for goto if implements import instanceof int interface long native new
		null package private protected public return short static strictfp super switch synchronized this throw throws
		transient true try void volatile while yield`)
	members = strings.Fields(`clone equals finalize get_class hash_code notify notify_all to_string wait`)
	verbs   = strings.Fields(`apply_to between build builder from_cbor from_json to_builder to_cbor to_json unlisted_fields
		validate violations write_to`)
	raised = strings.Fields(`add_suppressed error_name error_status fill_in_stack_trace get_cause get_localized_message
		get_message get_stack_trace get_suppressed init_cause print_stack_trace set_stack_trace`)
	// client are the methods of every client, and server those of every service.
	client = strings.Fields(`close to`)
	server = strings.Fields(`serve`)
)

// camel turns a snake_case name into one that begins with a small letter.
func camel(snake string) string {
	name := syntax.PascalCase(snake)
	return strings.ToLower(name[:1]) + name[1:]
}

func safe(snake string, lists ...[]string) string {
	if slices.ContainsFunc(lists, func(list []string) bool { return slices.Contains(list, snake) }) {
		return camel(snake) + "_"
	}
	return camel(snake)
}

// FieldName is the Java name of a field: of its accessor, and of what sets it in a builder.
func FieldName(f *schema.Field) string {
	return safe(f.Name, keywords, members, verbs, raised)
}

// CallName is the Java name of a call, in clients and in services. A name that ends as those of the methods that do not
// wait gets a trailing "_".
func CallName(c *schema.Call) string {
	if strings.HasSuffix(c.Name, "_async") {
		return camel(c.Name) + "_"
	}
	return safe(c.Name, keywords, members, client, server)
}

// taken says what is wrong with the name of a declaration: a class can't be called as one inside of it, nor as that of
// the constants. It is "" where nothing is.
func taken(m *schema.Module, d schema.Declaration) string {
	var inside []string
	switch d := d.(type) {
	case *schema.Message:
		inside = []string{"Builder", "Coding"}
		if d.IsError() {
			inside = append(inside, "Serialized")
		}
	case *schema.Enum:
		inside = []string{"Known", "Coding"}
	case *schema.NamedType:
		if isRecord(&d.Type) {
			inside = []string{"Coding"}
		}
	case *schema.Const, *schema.Credential, *schema.Example:
		return ""
	}
	name := d.Head().Name
	switch {
	case slices.Contains(inside, name):
		return "its class has one inside that is called so"
	case name == constantsClass && len(m.Consts) > 0:
		return "the class with the constants of its module is called so"
	}
	return ""
}

// MemberName is the Java constant of an enum's member.
func MemberName(m *schema.Member) string {
	name := strings.ToUpper(m.Name)
	if name == "CODEC" || name == "UNLISTED" {
		return name + "_"
	}
	return name
}

// AlternativeName is the Java record of an alternative, in the interface of its union.
func AlternativeName(a *schema.Alternative) string {
	name := syntax.PascalCase(a.Name)
	if name == a.Union.Name || name == a.Union.Name+"Unlisted" { // nothing inside can have these names
		return name + "_"
	}
	return name
}

// ConstName is the Java name of a constant.
func ConstName(c *schema.Const) string { return c.Name }

// constantsClass has the constants of a module.
const constantsClass = "Constants"

// Below is the package of a module, below that of the output.
func Below(m *schema.Module) string {
	parts := strings.Split(m.Name, ".")
	for i, part := range parts {
		if slices.Contains(keywords, part) || part == "faithful" && i == 0 {
			parts[i] += "_"
		}
	}
	return strings.Join(parts, ".")
}

// javaLang are the types of java.lang that need no import, and that generated code mentions or that a reader
// would take a type of one's own for.
var javaLang = strings.Fields(`AbstractMethodError Appendable ArithmeticException ArrayIndexOutOfBoundsException
	ArrayStoreException AssertionError AutoCloseable Boolean BootstrapMethodError Byte CharSequence Character Class
	ClassCastException ClassCircularityError ClassFormatError ClassLoader ClassNotFoundException ClassValue
	CloneNotSupportedException Cloneable Comparable Compiler Deprecated Double Enum EnumConstantNotPresentException Error
	Exception ExceptionInInitializerError Float FunctionalInterface IO IllegalAccessError IllegalAccessException
	IllegalArgumentException IllegalCallerException IllegalMonitorStateException IllegalStateException
	IllegalThreadStateException IncompatibleClassChangeError IndexOutOfBoundsException InheritableThreadLocal
	InstantiationError InstantiationException Integer InternalError InterruptedException Iterable
	LayerInstantiationException LinkageError Long MatchException Math Module ModuleLayer NegativeArraySizeException
	NoClassDefFoundError NoSuchFieldError NoSuchFieldException NoSuchMethodError NoSuchMethodException
	NullPointerException Number NumberFormatException Object OutOfMemoryError Override Package Process ProcessBuilder
	ProcessHandle Readable Record ReflectiveOperationException Runnable Runtime RuntimeException RuntimePermission SafeVarargs
	ScopedValue SecurityException SecurityManager Short StableValue StackOverflowError StackTraceElement StackWalker
	StrictMath String StringBuffer StringBuilder StringIndexOutOfBoundsException StringTemplate SuppressWarnings System
	Thread ThreadDeath ThreadGroup ThreadLocal Throwable TypeNotPresentException UnknownError UnsatisfiedLinkError
	UnsupportedClassVersionError UnsupportedOperationException VerifyError VirtualMachineError Void WrongThreadException`)
