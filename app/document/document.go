// Package document reads treatments: the one way in for all of them, from the
// interface, the database or a file.
package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"jardin/core/treatment"
)

var schema = sync.OnceValue(func() *jsonschema.Schema {
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(treatment.Schema))
	if err != nil {
		panic(err) // the schema is part of the program
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("treatment.schema.json", parsed); err != nil {
		panic(err)
	}
	return c.MustCompile("treatment.schema.json")
})

// Parse reads a treatment and checks it against the schema and the document's
// own rules. shot is the range of the shot, or nil where it is not known. The
// error says for each fault where it is and what was expected.
func Parse(blob []byte, shot *treatment.Range) (*treatment.Document, error) {
	blob, err := treatment.Upgrade(blob)
	if err != nil {
		return nil, fmt.Errorf("bring the treatment up to this version: %w", err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(blob))
	if err != nil {
		return nil, fmt.Errorf("this is not JSON: %w", err)
	}
	if err := schema().Validate(value); err != nil {
		var invalid *jsonschema.ValidationError
		if errors.As(err, &invalid) {
			return nil, errors.New(strings.Join(faults(invalid, nil), "\n"))
		}
		return nil, err
	}
	doc := treatment.New()
	if err := json.Unmarshal(blob, doc); err != nil {
		return nil, fmt.Errorf("read the treatment: %w", err)
	}
	if err := doc.Validate(shot); err != nil {
		return nil, err
	}
	return doc, nil
}

var english = message.NewPrinter(language.English)

func faults(e *jsonschema.ValidationError, out []string) []string {
	if len(e.Causes) == 0 {
		return append(
			out,
			fmt.Sprintf("/%s: %s", strings.Join(e.InstanceLocation, "/"), e.ErrorKind.LocalizedString(english)),
		)
	}
	for _, cause := range e.Causes {
		out = faults(cause, out)
	}
	return out
}
