package report

import (
	"net/url"
	"slices"
	"strings"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/source"
)

// The parts of SARIF 2.1.0 that are written (OASIS, "Static Analysis Results
// Interchange Format Version 2.1.0", errata 01).
type sarifLog struct {
	Schema  string     `json:"$schema"`
	Version string     `json:"version"`
	Runs    []sarifRun `json:"runs"`
}

type sarifRun struct {
	Tool       sarifTool     `json:"tool"`
	ColumnKind string        `json:"columnKind"`
	Results    []sarifResult `json:"results"`
}

type sarifTool struct {
	Driver sarifDriver `json:"driver"`
}

type sarifDriver struct {
	Name    string      `json:"name"`
	Version string      `json:"semanticVersion"`
	Rules   []sarifRule `json:"rules"`
}

type sarifRule struct {
	ID    string     `json:"id"`
	Short *sarifText `json:"shortDescription,omitempty"`
	Full  *sarifText `json:"fullDescription,omitempty"`
}

type sarifText struct {
	Text string `json:"text"`
}

type sarifResult struct {
	RuleID       string             `json:"ruleId"`
	RuleIndex    int                `json:"ruleIndex"`
	Level        string             `json:"level"`
	Message      sarifText          `json:"message"`
	Locations    []sarifLocation    `json:"locations,omitempty"`
	Related      []sarifLocation    `json:"relatedLocations,omitempty"`
	Prints       map[string]string  `json:"partialFingerprints,omitempty"`
	Suppressions []sarifSuppression `json:"suppressions,omitempty"`
}

type sarifSuppression struct {
	Kind          string `json:"kind"`
	Justification string `json:"justification"`
}

type sarifLocation struct {
	Physical sarifPhysical `json:"physicalLocation"`
	Message  *sarifText    `json:"message,omitempty"`
}

type sarifPhysical struct {
	Artifact sarifArtifact `json:"artifactLocation"`
	Region   sarifRegion   `json:"region"`
}

type sarifArtifact struct {
	URI string `json:"uri"`
}

type sarifRegion struct {
	StartLine   int `json:"startLine"`
	StartColumn int `json:"startColumn"`
	EndLine     int `json:"endLine"`
	EndColumn   int `json:"endColumn"`
}

const sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"

func sarif(version string, rules []sarifRule, results []sarifResult) any {
	return sarifLog{sarifSchema, "2.1.0", []sarifRun{{sarifTool{sarifDriver{"Faithful Courier", version, rules}},
		"unicodeCodePoints", results}}}
}

// sarifAt is a list of the one place, or of none where it has no file.
func sarifAt(place source.Place, message string) []sarifLocation {
	if place.File == nil {
		return nil
	}
	start, end := place.File.Position(place.Span.Start), place.File.Position(place.Span.End)
	l := sarifLocation{Physical: sarifPhysical{sarifArtifact{(&url.URL{Path: place.File.Name}).String()},
		sarifRegion{start.Line, start.Column, end.Line, end.Column}}}
	if message != "" {
		l.Message = &sarifText{message}
	}
	return []sarifLocation{l}
}

// FindingsSARIF is findings as SARIF 2.1.0; version is that of the program.
func FindingsSARIF(version string, findings []source.Finding) any {
	rules, results := []sarifRule{}, []sarifResult{}
	for _, f := range findings {
		at := slices.IndexFunc(rules, func(r sarifRule) bool { return r.ID == f.Name })
		if at < 0 {
			at = len(rules)
			rules = append(rules, sarifRule{ID: f.Name})
		}
		r := sarifResult{RuleID: f.Name, RuleIndex: at, Level: "error", Message: sarifText{sentence(f.Message, f.Fix)},
			Locations: sarifAt(f.Place, "")}
		if f.Severity == source.Advice {
			r.Level = "warning"
		}
		for _, n := range f.Notes {
			r.Related = append(r.Related, sarifAt(n.Place, n.Message)...)
		}
		results = append(results, r)
	}
	return sarif(version, rules, results)
}

// ComparisonSARIF is a comparison as SARIF 2.1.0: what is breaking is an error, what is altering a
// warning, what is compatible a note. What is gone stands where it is missed, and where it
// was is a related place.
func ComparisonSARIF(version string, c Comparison) any {
	rules, results := []sarifRule{}, []sarifResult{}
	index := map[change.Kind]int{}
	for _, f := range c.Changes {
		at, known := index[f.Kind]
		if !known {
			at = len(rules)
			index[f.Kind] = at
			rule := sarifRule{ID: string(f.Kind)}
			if w, known := compare.About(f.Kind); known {
				rule.Short, rule.Full = &sarifText{strings.ReplaceAll(rule.ID, "-", " ")},
					&sarifText{"Payloads: " + w.Wire + ". Code: " + w.Code + "."}
			}
			rules = append(rules, rule)
		}
		r := sarifResult{RuleID: string(f.Kind), RuleIndex: at, Level: sarifLevels[f.Verdict()],
			Locations: sarifAt(f.Place, ""), Prints: map[string]string{"change/v1": string(f.Kind) + " " + f.Where}}
		r.Message.Text = f.Where + ": " + f.Verdict().String() + ": " + f.FromTo()
		for _, e := range f.Effects {
			r.Message.Text += "\n" + e.Covers + ": " + e.Sentence
			if e.Proof != nil && e.Proof.JSON != "" {
				r.Message.Text += " (" + e.Proof.JSON + ": " + e.Proof.Reader + " " + e.Proof.Outcome + ")"
			}
		}
		if f.Fix != nil {
			r.Message.Text += "\nfix: " + strings.Join(append([]string{f.Fix.Says}, f.Fix.Lines...), "\n  ")
		}
		if f.InOld {
			r.Locations, r.Related = sarifAt(f.Missed, ""), sarifAt(f.Place, "it was here in "+c.Old)
		}
		if f.Waiver != nil {
			r.Suppressions = []sarifSuppression{{"external", f.Waiver.Reason}}
		}
		results = append(results, r)
	}
	return sarif(version, rules, results)
}

var sarifLevels = map[verdict.Verdict]string{verdict.Breaking: "error", verdict.Altering: "warning",
	verdict.Compatible: "note"}

// sentence joins what is wrong and how to fix it.
func sentence(message, fix string) string {
	if fix == "" {
		return message
	}
	return message + "; " + fix
}
