package command

import (
	"flag"
	"strings"

	"faithfulcourier/internal/describe"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

var showCommand = &command{
	name:     "show",
	synopsis: "[NAME] [--of REF] [--as KIND]",
	short:    "shows what is defined, and what uses it",
	long: `Without NAME prints an outline of everything. With NAME prints one declaration
with its documentation, what it uses, and who uses it as what. NAME is a full
name, or the last parts of one: Booking, Bookings.book, skerry.booking. As JSON
it is one document, which definitions.schema.json in docs/ describes.`,
	examples: [2]string{"faithful show Booking", "faithful show --of 1.0.0 --as json"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		kind := outputKind(flags)
		ref := referenceFlags(flags)
		return func(w *World, args []string) (int, error) {
			if err := checkKind(*kind); err != nil {
				return trouble, err
			}
			if len(args) > 1 {
				return trouble, usage("one name at a time")
			}
			defs, findings, err := loadReference(w, *ref.of, ref.access)
			if err != nil {
				return trouble, err
			}
			if source.Errors(findings) > 0 {
				return mistakes(w, *kind, findings)
			}
			if len(args) == 0 {
				return showAll(w, *kind, defs)
			}
			return showOne(w, *kind, defs, args[0])
		}
	},
}

func showAll(w *World, kind string, defs *schema.Definitions) (int, error) {
	if kind == "json" {
		return fine, report.New(w.Out, report.Plain).JSON(describe.Of(defs))
	}
	buffered(w, func(p *report.Printer) {
		for i, m := range defs.Modules {
			if i > 0 {
				p.Line("")
			}
			p.Outline(m)
		}
	})
	return fine, nil
}

func showOne(w *World, kind string, defs *schema.Definitions, name string) (int, error) {
	found, err := named(defs, name)
	if err != nil {
		return trouble, err
	}
	// A field, member or call is shown with what it belongs to.
	thing := found
	switch t := thing.(type) {
	case *schema.Field:
		thing = t.Message
	case *schema.Member:
		thing = t.Enum
	case *schema.Alternative:
		thing = t.Union
	case *schema.Call:
		thing = t.Service
	}
	if m, ok := thing.(*schema.Module); ok {
		if kind == "json" {
			alone := &schema.Definitions{Modules: []*schema.Module{m}}
			return fine, report.New(w.Out, report.Plain).JSON(describe.Of(alone))
		}
		buffered(w, func(p *report.Printer) { p.Outline(m) })
		return fine, nil
	}
	decl := thing.(schema.Declaration)
	uses := defs.UsedBy(decl)
	if kind == "json" {
		return fine, report.New(w.Out, report.Plain).JSON(describe.One(found, decl, uses))
	}
	buffered(w, func(p *report.Printer) {
		p.Line("%s", p.In(report.Faint, "// "+found.FullName()))
		p.Line("%s", strings.TrimRight(schema.Text(decl), "\n"))
		p.Uses(decl, uses)
	})
	return fine, nil
}
