package command

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"faithfulcourier/internal/project"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// accessFlags are the options of commands that ask a server for its definitions.
type accessFlags struct {
	headers, credentials *several
	trust                *trust
}

// trust is whom a connection by TLS is believed (RFC 8446).
type trust struct {
	ca       string
	insecure bool
}

func trustOptions(flags *flag.FlagSet) *trust {
	t := &trust{}
	flags.StringVar(&t.ca, "ca", "", "trust servers by the certificates in `FILE` (PEM)")
	flags.BoolVar(&t.insecure, "insecure", false, "trust any certificate: the server could be anybody")
	return t
}

// transport carries requests to servers that are trusted so; nil where nothing was said.
func (t *trust) transport(w *World) (http.RoundTripper, error) {
	if t == nil || t.ca == "" && !t.insecure {
		return nil, nil
	}
	carrier := http.DefaultTransport.(*http.Transport).Clone()
	carrier.TLSClientConfig = &tls.Config{InsecureSkipVerify: t.insecure}
	if t.ca == "" {
		return carrier, nil
	}
	pem, err := os.ReadFile(w.path(t.ca))
	if err != nil {
		return nil, err
	}
	carrier.TLSClientConfig.RootCAs = x509.NewCertPool()
	if !carrier.TLSClientConfig.RootCAs.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s has no certificate in PEM: it begins with -----BEGIN CERTIFICATE-----", t.ca)
	}
	return carrier, nil
}

func accessOptions(flags *flag.FlagSet) accessFlags {
	return accessFlags{
		trust:   trustOptions(flags),
		headers: severalOf(flags, "header", "send this header to the server: `'NAME: VALUE'`"),
		credentials: severalOf(flags, "credential",
			"show the server a credential: `NAME=VALUE`, or NAME=env:VARIABLE, or NAME=file:PATH"),
	}
}

// access says how a server is asked for its definitions. What a credential is,
// the definitions of the project say; bearer and basic are understood as such.
func (a accessFlags) access(w *World) (project.Access, error) {
	out := project.Access{Headers: http.Header{}, Query: url.Values{}}
	headers, err := headersOf(*a.headers)
	if err != nil {
		return out, err
	}
	if out.Transport, err = a.trust.transport(w); err != nil {
		return out, err
	}
	out.Headers = headers
	for _, given := range *a.credentials {
		name, value, err := credentialOf(w, given)
		if err != nil {
			return out, err
		}
		c := a.declared(w, name)
		switch {
		case c == nil:
			return out, fmt.Errorf("what the credential %q is, no definitions here say; give it as bearer=TOKEN or "+
				"basic=USER:PASSWORD, or as a --header", name)
		case c.Kind == "bearer":
			out.Headers.Set("Authorization", "Bearer "+value)
		case c.Kind == "basic":
			out.Headers.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(value)))
		case c.Carrier == "header":
			out.Headers.Set(c.Key, value)
		case c.Carrier == "query":
			out.Query.Set(c.Key, value)
		default:
			out.Headers.Add("Cookie", c.Key+"="+value)
		}
	}
	return out, nil
}

func (a accessFlags) declared(w *World, name string) *schema.Credential {
	if name == "bearer" || name == "basic" {
		return &schema.Credential{Kind: name}
	}
	p, err := openProject(w.Dir)
	if err != nil {
		return nil
	}
	defs, _, err := p.Definitions()
	if err != nil {
		return nil
	}
	return declaredCredential(defs, name)
}

// declaredCredential finds a credential by its name with or without its module.
func declaredCredential(defs *schema.Definitions, name string) *schema.Credential {
	for _, m := range defs.Modules {
		for _, c := range m.Credentials {
			if c.Name == name || c.FullName() == name {
				return c
			}
		}
	}
	return nil
}

// headersOf reads headers as they are written on a command line.
func headersOf(list []string) (http.Header, error) {
	out := http.Header{}
	for _, given := range list {
		name, value, ok := strings.Cut(given, ":")
		if name = strings.TrimSpace(name); !ok || name == "" || strings.ContainsAny(name, " \t\r\n\"(),/;<=>?@[\\]{}") ||
			strings.ContainsAny(value, "\r\n") {
			return nil, usage("a header is given as in --header 'Quay-Client: screen 2'")
		}
		out.Add(name, strings.TrimSpace(value))
	}
	return out, nil
}

// credentialOf reads a credential as it is written on a command line. Errors do
// not say its value.
func credentialOf(w *World, given string) (name, value string, err error) {
	name, value, ok := strings.Cut(given, "=")
	if !ok || name == "" {
		return "", "", usage("a credential is given as NAME=VALUE, NAME=env:VARIABLE or NAME=file:PATH")
	}
	if variable, ok := strings.CutPrefix(value, "env:"); ok {
		if value, ok = os.LookupEnv(variable); !ok {
			return "", "", fmt.Errorf("the credential %q is in no environment variable %q", name, variable)
		}
	} else if path, ok := strings.CutPrefix(value, "file:"); ok {
		data, err := os.ReadFile(w.path(path))
		if err != nil {
			return "", "", fmt.Errorf("the credential %q can't be read: %w", name, err)
		}
		value = strings.TrimRight(string(data), "\r\n")
	}
	if value == "" || strings.ContainsAny(value, "\r\n") {
		return "", "", fmt.Errorf("the credential %q is empty, or of several lines", name)
	}
	return name, value, nil
}

// referenceOptions are the options of commands that take definitions from a
// reference.
type referenceOptions struct {
	of     *string
	access accessFlags
}

func referenceFlags(flags *flag.FlagSet) *referenceOptions {
	return &referenceOptions{
		of: flags.String("of", "draft", "the definitions: draft, latest, 1.0.0, a folder, a file, or a server's "+
			"URL (`REF`)"),
		access: accessOptions(flags),
	}
}

// load loads the definitions. Where it returns none, the command ends with the
// status and the error.
func (r *referenceOptions) load(w *World) (*schema.Definitions, int, error) {
	defs, findings, err := loadReference(w, *r.of, r.access)
	if err != nil {
		return nil, trouble, err
	}
	if source.Errors(findings) > 0 {
		status, err := mistakes(w, "text", findings)
		return nil, status, err
	}
	return defs, fine, nil
}

// loadOne is loadReference where of several references not all are servers.
func loadOne(w *World, ref string, a accessFlags) (*schema.Definitions, []source.Finding, error) {
	if !project.IsURL(ref) {
		return project.Load(w.Dir, ref)
	}
	return loadReference(w, ref, a)
}

// loadReference loads what any reference names.
func loadReference(w *World, ref string, a accessFlags) (*schema.Definitions, []source.Finding, error) {
	if !project.IsURL(ref) {
		if len(*a.headers)+len(*a.credentials) > 0 {
			return nil, nil, usage("--header and --credential are for servers, and %s is none", ref)
		}
		return project.Load(w.Dir, ref)
	}
	access, err := a.access(w)
	if err != nil {
		return nil, nil, err
	}
	return project.LoadFrom(w.Context, w.Dir, ref, access)
}

// isNoProject tells whether there is just no project here.
func isNoProject(err error) bool { return errors.Is(err, project.ErrNoProject) }
