package wire

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// What kinds of changes do that no walk through payloads finds: calls that come and go,
// declared errors, retries, constants, retirement.

// oldClients tells whether an older client may meet a newer server, and newClients the
// other way round.
func (j *Judge) oldClients() bool { return j.promise.Rollout != "client-leads" }
func (j *Judge) newClients() bool { return j.promise.Rollout != "server-leads" }

// http adds what a change does to the conversation.
func (j *Judge) http(c *change.Change, v verdict.Verdict, newReads bool, sentence string, proof *verdict.Proof) {
	if j.promise.Promises("http") {
		j.add(c, &verdict.Effect{Covers: "http", Position: verdict.Request, NewReads: newReads, Verdict: v,
			Sentence: sentence, Proof: proof})
	}
}

// CallGone judges a call that NEW has not.
func (j *Judge) CallGone(c *change.Change) {
	if !j.oldClients() || !j.promise.Promises("http") {
		return
	}
	proof := j.meet(meeting{newReads: true, client: c.Call.Old, served: j.New}, nil)
	j.http(c, verdict.Breaking, true, "an older client calls it, and a newer server does not serve it", proof)
}

// CallAdded judges a call that OLD has not: by its path, and by who may call it.
func (j *Judge) CallAdded(c *change.Change) {
	j.intercepts(c)
	if j.newClients() {
		j.http(c, verdict.Altering, false, "a newer client calls it, and an older server answers 404", nil)
	}
}

// FailsAdded judges an error that a call did not declare.
func (j *Judge) FailsAdded(c *change.Change) {
	if j.oldClients() {
		j.http(c, verdict.Altering, false, "an older client does not know this error of the call: to it, it is "+
			"another problem", nil)
	}
}

// FailsGone judges an error that a call no longer declares.
func (j *Judge) FailsGone(c *change.Change) {
	if j.newClients() {
		j.http(c, verdict.Altering, true, "a newer client does not expect this error of the call any more, and an older "+
			"server may answer it", nil)
	}
}

// ErrorStatus judges an error with another status.
func (j *Judge) ErrorStatus(c *change.Change) {
	j.http(c, verdict.Altering, false, fmt.Sprintf("its status changes from %s to %s; clients go by its type", c.Old,
		c.New), nil)
}

// RepeatTakenOff judges a call that is not safe or idempotent any more.
func (j *Judge) RepeatTakenOff(c *change.Change) {
	if j.oldClients() {
		j.http(c, verdict.Altering, true, fmt.Sprintf("an older client takes the call for %s and may send it again", c.Old),
			nil)
	}
}

// RepeatPutOn judges a call that is safe or idempotent now.
func (j *Judge) RepeatPutOn(c *change.Change) {
	if j.newClients() {
		j.http(c, verdict.Altering, false, fmt.Sprintf("a newer client takes the call for %s and may send it again to "+
			"an older server", c.New), nil)
	}
}

// Valued judges a constant with another value.
func (j *Judge) Valued(c *change.Change) {
	j.everywhere(c, verdict.Stored, "both sides go on, with different values")
}

// Freed judges a number or name that may be used again.
func (j *Judge) Freed(c *change.Change) {
	j.everywhere(c, verdict.Stored, "older payloads may contain something else under it")
}

// SecretOff judges what is no longer secret.
func (j *Judge) SecretOff(c *change.Change) {
	j.everywhere(c, verdict.All, "what was left out of logs may now be in them")
}

// StoredOff judges a message that is no longer said to be stored.
func (j *Judge) StoredOff(c *change.Change) {
	j.everywhere(c, verdict.All, "older payloads that are stored somewhere are no longer promised to be read")
}

// everywhere adds what changes a meaning in all that the promise covers.
func (j *Judge) everywhere(c *change.Change, p verdict.Position, sentence string) {
	for _, covers := range j.promise.Covers {
		j.add(c, &verdict.Effect{Covers: covers, Position: p, NewReads: true, Verdict: verdict.Altering, Sentence: sentence})
	}
}

// MessageGone judges a message that is gone and whose payloads may be stored: nobody of
// NEW can read them.
func (j *Judge) MessageGone(c *change.Change) {
	o := c.OldDecl.(*schema.Message)
	if !slices.Contains(j.directions(verdict.Stored), true) || !o.Stored && !j.unreferenced(o) {
		return
	}
	smallest := value.MinimalMessage(o)
	payload, _ := value.EncodeCBOR(smallest)
	text, _ := value.EncodeJSON(smallest)
	for _, encoding := range []string{"binary", "json"} {
		if !j.promise.Promises(encoding) {
			continue
		}
		j.add(c, &verdict.Effect{Covers: encoding, Position: verdict.Stored, NewReads: true, Verdict: verdict.Breaking,
			Sentence: fmt.Sprintf("older code has stored %q, and newer code has nothing to read it with", o.Name),
			Proof: &verdict.Proof{Message: o.FullName(), JSON: string(text), Binary: payload, Encoding: encoding,
				Writer: "older code", Reader: "newer code", Outcome: "has no message " + o.FullName()}})
	}
}
