package conversation

// Problem is one that every server may answer with, whatever a call declares. Its type ends in its name (RFC 9457).
type Problem struct {
	Name   string
	Status int
	Means  string
	Do     string // what whoever gets it does
}

// Problems are all of them, by their statuses.
var Problems = []Problem{
	{"invalid-request", 400, "The request can't be read, or violates bounds of its definition.",
		"Correct each place that its member errors names."},
	{"unauthenticated", 401, "The call needs credentials that were not shown, or that are not good any more.",
		"Show one of those that the call needs; WWW-Authenticate names them."},
	{"forbidden", 403, "The credentials are good, and not enough for this.", "Ask whoever gives out credentials."},
	{"unknown-call", 404, "No call has this path.",
		"Look at the base URL, and whether the server has the version that you call."},
	{"wrong-method", 405, "The path is right, and the method is not.", "Use one that Allow names."},
	{"not-acceptable", 406, "Accept names neither application/cbor nor application/json.", "Ask for one of them."},
	{"too-large", 413, "The request is larger than the server takes, or has more elements.",
		"Send less at once, or a stream where the call takes one."},
	{"unsupported-form", 415, "The body is neither application/cbor nor application/json, or its coding is not gzip.",
		"Send one of them, and say which with Content-Type."},
	{"range-not-satisfiable", 416, "The range that was asked for is not a part of the body.",
		"Ask for a part of what Content-Range says there is."},
	{"internal", 500, "The server failed, and its log says why.", "Tell whoever runs it, with the time."},
	{"not-implemented", 501, "The call is defined, and this server does not have it.",
		"Ask whoever runs it when it will be there."},
	{"overloaded", 503, "The server has too much to do.", "Try again after as long as Retry-After says."},
	{"too-slow", 503, "The call took longer than the client or the server allows.",
		"Wait longer, or ask for less."},
	{"unavailable", 503, "The server is shutting down.", "Try again after as long as Retry-After says."},
}
