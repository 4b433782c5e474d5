package versions

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// A Signer signs lines of the ledger with an ed25519 key (RFC 8032).
type Signer struct{ key ed25519.PrivateKey }

// ErrLocked says that a private key is protected by a passphrase.
var ErrLocked = errors.New("the key is protected by a passphrase")

// ReadSigner reads a private key file of OpenSSH. The passphrase is nil for none;
// the error is ErrLocked where one is needed.
func ReadSigner(file, passphrase []byte) (*Signer, error) {
	var key any
	var err error
	if passphrase == nil {
		key, err = ssh.ParseRawPrivateKey(file)
	} else {
		key, err = ssh.ParseRawPrivateKeyWithPassphrase(file, passphrase)
	}
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, ErrLocked
	case err != nil && strings.HasPrefix(string(file), "ssh-"):
		return nil, errors.New("this is a public key; sign with the private one, which is next to it, without .pub")
	case err != nil:
		return nil, fmt.Errorf("no private key of OpenSSH can be read from it: %w", err)
	}
	private, ok := key.(*ed25519.PrivateKey)
	if !ok {
		return nil, fmt.Errorf("it is not an ed25519 key; make one with: ssh-keygen -t ed25519")
	}
	return &Signer{*private}, nil
}

// Public is the public key as OpenSSH writes it, without a comment.
func (s *Signer) Public() string {
	key, err := ssh.NewPublicKey(s.key.Public())
	if err != nil {
		return "" // an ed25519 key always has one
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}

// sign signs a line of the ledger that has no signature yet, as the bytes that it is, and
// returns it with one at its end: who reads it later need not know all that it says.
func (s *Signer) sign(e *Entry, line []byte) []byte {
	e.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(s.key, signed(line)))
	whole := append(bytes.TrimSuffix(line, []byte("}")), signatureBegins...)
	return append(append(whole, e.Signature...), signatureEnds...)
}

const signatureBegins, signatureEnds = `,"signature":"`, `"}`

// signed is what a signature is of: the line without it, and a word that tells it from
// whatever else the key signs.
func signed(line []byte) []byte { return append([]byte("faithful ledger line\n"), line...) }

// unsigned is a line without its signature, which ends it; ok is false where it does not.
func unsigned(line []byte, signature string) (bare []byte, ok bool) {
	bare, ok = bytes.CutSuffix(line, []byte(signatureBegins+signature+signatureEnds))
	return append(bytes.Clone(bare), '}'), ok
}

// ParseSigner reads a public ed25519 key as OpenSSH writes it: "ssh-ed25519", the
// key, a comment. It returns the key without the comment, and the comment.
func ParseSigner(text string) (key, comment string, err error) {
	public, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil || public.Type() != ssh.KeyAlgoED25519 {
		return "", "", fmt.Errorf("%q is not a public ed25519 key; write what the .pub file says: ssh-ed25519 AAAA… name",
			text)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public))), comment, nil
}

// checkSignature says what is wrong with the signature of an entry, which a line of the
// ledger holds, or "". trusted are the public keys that may sign, by ParseSigner; none
// means any.
func checkSignature(e *Entry, line []byte, trusted []string) string {
	bare, ok := unsigned(line, e.Signature)
	if !ok {
		return "its signature does not end the line: the line was changed after it was signed"
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(e.Signer))
	if err != nil {
		return "its signer is not a public key"
	}
	crypto, isKey := public.(ssh.CryptoPublicKey)
	if !isKey {
		return "its signer is not an ed25519 key"
	}
	key, isKey := crypto.CryptoPublicKey().(ed25519.PublicKey)
	if !isKey {
		return "its signer is not an ed25519 key"
	}
	signature, err := base64.StdEncoding.DecodeString(e.Signature)
	if err != nil {
		return "its signature can't be read"
	}
	if !ed25519.Verify(key, signed(bare), signature) {
		return "its signature is not of this line: the line was changed after it was signed"
	}
	if len(trusted) == 0 {
		return ""
	}
	for _, t := range trusted {
		if t == strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public))) {
			return ""
		}
	}
	return fmt.Sprintf("it is signed with %s, which is not among the signers of faithful.toml",
		ssh.FingerprintSHA256(public))
}
