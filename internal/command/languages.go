package command

import (
	"cmp"
	"flag"
	"strings"

	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/stubs"
)

var languagesCommand = &command{
	name:     "languages",
	synopsis: "[--as KIND]",
	short:    "lists the languages of stubs, their roles and options",
	long: `Lists the languages of stubs, and the keys of [[stubs]] in faithful.toml: those of
all languages, then those of each.`,
	examples: [2]string{"faithful languages", "faithful languages --as json"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			if len(args) > 0 {
				return trouble, usage("languages takes no arguments")
			}
			if *kind == "json" {
				list := []map[string]any{}
				for _, l := range languages {
					options := []map[string]string{}
					for _, o := range append(commonOptions, l.Options()...) {
						options = append(options, map[string]string{"key": o.Key, "default": o.Default, "documentation": o.Doc})
					}
					list = append(list, map[string]any{"language": l.Name(), "roles": project.Roles, "options": options})
				}
				return fine, report.New(w.Out, report.Plain).JSON(map[string]any{"languages": list})
			}
			buffered(w, func(p *report.Printer) {
				p.Line("%s", p.In(report.Bold, "every language"))
				p.Table("  ", optionRows(commonOptions))
				for _, l := range languages {
					p.Line("")
					p.Line("%s", p.In(report.Bold, l.Name()))
					if len(l.Options()) == 0 {
						p.Line("  no options of its own")
						continue
					}
					p.Table("  ", optionRows(l.Options()))
				}
			})
			return fine, nil
		}
	},
}

// commonOptions are the keys of [[stubs]] that every language has.
var commonOptions = []stubs.Option{
	{Key: "into", Doc: "the output folder; required"},
	{Key: "roles", Default: `["types", "client", "server"]`,
		Doc: "what the output contains; without types, it uses those of another output"},
	{Key: "types", Doc: "the folder (into) of the output whose types it uses, if there are several"},
	{Key: "of", Default: "draft", Doc: "the sealed version that it is made from"},
	{Key: "exhaustive", Default: "false", Doc: "adds what stops compiling when a call, member or alternative is added"},
}

func optionRows(options []stubs.Option) [][]string {
	var rows [][]string
	for _, o := range options {
		rows = append(rows, []string{o.Key, cmp.Or(strings.TrimSpace(o.Default), "-"), o.Doc})
	}
	return rows
}
