package versions

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// newSigner reads a key file as ssh-keygen writes one.
func newSigner(t *testing.T) *Signer {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "ada")
	require.NoError(t, err)
	s, err := ReadSigner(pem.EncodeToMemory(block), nil)
	require.NoError(t, err)
	return s
}

// TestSignedLedger seals signed versions, and tampers with the ledger as somebody
// would who hashes the chain anew but has not the key.
func TestSignedLedger(t *testing.T) {
	ada, eve := newSigner(t), newSigner(t)
	trusted := []string{ada.Public()}
	seal := func(dir, version string, by *Signer) {
		l, err := Open(dir)
		require.NoError(t, err)
		_, err = l.Seal(nil, Entry{Version: version, Digest: "d1", Verdict: "compatible", Note: "as it was"},
			[]File{{"a.faithful", version}}, time.Unix(0, 0), by)
		require.NoError(t, err)
	}
	made := func(signers ...*Signer) string {
		dir := t.TempDir()
		for i, by := range signers {
			seal(dir, []string{"1.0.0", "1.1.0", "1.2.0"}[i], by)
		}
		return dir
	}
	// rechained changes an entry, and hashes all that follows anew.
	rechained := func(dir string, at int, change func(*Entry)) string {
		path := filepath.Join(dir, Folder, ledgerName)
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		var out []byte
		before := ""
		for i, line := range bytes.Split(bytes.TrimSpace(text), []byte("\n")) {
			var e Entry
			require.NoError(t, json.Unmarshal(line, &e))
			if i == at {
				change(&e)
			}
			e.Previous = before
			line, err := json.Marshal(e)
			require.NoError(t, err)
			before = hash(line)
			out = append(append(out, line...), '\n')
		}
		require.NoError(t, os.WriteFile(path, out, 0o666))
		return dir
	}
	for name, c := range map[string]struct {
		dir     string
		trusted []string
		want    []string // of flaws, in order
	}{
		"all signed":          {made(ada, ada, ada), trusted, nil},
		"nobody is named":     {made(ada, nil, eve), nil, []string{"the line is not signed"}},
		"signing began later": {made(nil, ada, ada), trusted, nil},
		"the last is not signed": {made(ada, ada, nil), trusted,
			[]string{"the line is not signed, though one before it is"}},
		"none is":                  {made(nil, nil), trusted, []string{"no line is signed"}},
		"somebody else signed one": {made(ada, eve, ada), trusted, []string{"which is not among the signers"}},
		"a note was changed": {rechained(made(ada, ada, ada), 1, func(e *Entry) { e.Note = "better" }), trusted,
			[]string{"its signature is not of this line", "its signature is not of this line"}},
		"the last line was": {rechained(made(ada, ada), 1, func(e *Entry) { e.Files = "0" }), nil,
			[]string{"its signature is not of this line", "are not those that were sealed"}},
		"a signature was taken": {rechained(made(ada, ada), 1, func(e *Entry) { e.Signature, e.Signer = "", "" }), nil,
			[]string{"the line is not signed"}},
		"only the signature was": {rechained(made(ada, ada), 1, func(e *Entry) { e.Signature = "" }), nil,
			[]string{"its signature does not end the line"}},
		"the signer was changed": {rechained(made(ada, ada), 1, func(e *Entry) { e.Signer = eve.Public() }), nil,
			[]string{"its signature is not of this line"}},
		"it is not a key": {rechained(made(ada, ada), 1, func(e *Entry) { e.Signer = "ssh-ed25519 AAAA" }), nil,
			[]string{"its signer is not a public key"}},
		"no base64": {rechained(made(ada, ada), 1, func(e *Entry) { e.Signature = "???" }), nil,
			[]string{"its signature can't be read"}},
	} {
		r, err := (&Auditor{Trusted: c.trusted, Now: time.Unix(0, 0)}).Audit(c.dir)
		require.NoError(t, err)
		flaws := r.Flaws
		if assert.Len(t, flaws, len(c.want), "%s: %v", name, flaws) {
			for i, want := range c.want {
				assert.Contains(t, flaws[i].Message, want, name)
			}
		}
	}
}

// TestLaterFieldsAreSigned: a line is signed as the bytes that it is, so an older program
// can check one that says more than it knows.
func TestLaterFieldsAreSigned(t *testing.T) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s := &Signer{key}
	e := Entry{Version: "1.0.0", Verdict: "first", Signer: s.Public()}
	line, err := json.Marshal(e)
	require.NoError(t, err)
	later := append(bytes.TrimSuffix(line, []byte("}")), `,"said_later":{"signature":"x"}}`...)
	whole := s.sign(&e, later)
	require.True(t, json.Valid(whole))
	assert.Empty(t, checkSignature(&e, whole, nil))
	changed := bytes.Replace(whole, []byte("said_later"), []byte("said_Later"), 1)
	assert.Contains(t, checkSignature(&e, changed, nil), "its signature is not of this line")
	more := append(bytes.TrimSuffix(whole, []byte("}")), `,"more":1}`...)
	assert.Contains(t, checkSignature(&e, more, nil), "its signature does not end the line")
}

func TestSigners(t *testing.T) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(key, "ada", []byte("eiderwick"))
	require.NoError(t, err)
	file := pem.EncodeToMemory(block)
	_, err = ReadSigner(file, nil)
	require.ErrorIs(t, err, ErrLocked)
	_, err = ReadSigner(file, []byte("sund"))
	require.Error(t, err)
	s, err := ReadSigner(file, []byte("eiderwick"))
	require.NoError(t, err)
	public, comment, err := ParseSigner(s.Public() + " ada@skerry")
	require.NoError(t, err)
	assert.Equal(t, s.Public(), public)
	assert.Equal(t, "ada@skerry", comment)

	_, err = ReadSigner([]byte(s.Public()), nil)
	require.ErrorContains(t, err, "this is a public key")
	_, err = ReadSigner([]byte("module skerry\n"), nil)
	require.ErrorContains(t, err, "no private key of OpenSSH")
	curve, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	block, err = ssh.MarshalPrivateKey(curve, "")
	require.NoError(t, err)
	_, err = ReadSigner(pem.EncodeToMemory(block), nil)
	require.ErrorContains(t, err, "ssh-keygen -t ed25519")
	_, _, err = ParseSigner("ssh-ed25519 AAAA")
	require.ErrorContains(t, err, "is not a public ed25519 key")
}
