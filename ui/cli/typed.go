package cli

import (
	"fmt"

	"unquil/core/idn"
	"unquil/core/wire"
	"unquil/core/wording"
)

// parseName reads a name as typed.
func parseName(text string) (wire.Name, error) {
	name, err := idn.Parse(text)
	if err != nil {
		err = usage(fmt.Errorf("name %q: %w", shorten(text), err))
	}
	return name, err
}

// parseTypes reads the record types of --type.
func parseTypes(words []string) (types []wire.Type, err error) {
	for _, word := range words {
		t, err := wire.ParseType(word)
		if err != nil {
			return nil, usage(fmt.Errorf("--type %w%s", err, wording.OrNearest(word, typeNames())))
		}
		types = append(types, t)
	}
	return types, nil
}

// typeNames are the mnemonics of all types.
func typeNames() (all []string) {
	for _, t := range wire.Types() {
		all = append(all, t.String())
	}
	return all
}

// questions are all types of all names.
func questions(names, words []string) ([]wire.Question, error) {
	types, err := parseTypes(words)
	if err != nil {
		return nil, err
	}
	var list []wire.Question
	for _, text := range names {
		name, err := parseName(text)
		if err != nil {
			return nil, err
		}
		for _, t := range types {
			list = append(list, wire.Question{Name: name, Type: t, Class: wire.IN})
		}
	}
	return list, nil
}
