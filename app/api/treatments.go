package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jardin/app/live"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

// Edit is a change of a treatment.
type Edit struct {
	Revision int         `json:"revision" doc:"Number of the revision that the edit started from"`
	Label    string      `json:"label" minLength:"1" maxLength:"200" doc:"What was done, for undo"`
	Patch    []Operation `json:"patch" nullable:"false" minItems:"1" maxItems:"20000" doc:"JSON Patch, RFC 6902"`
	ID       string      `json:"id,omitempty" maxLength:"64" doc:"The edit's own name: sent again under it, it is not made twice"`
	Before   []Operation `json:"before,omitempty" maxItems:"20000" doc:"What edits that wait before this one change of that revision"`
	Merge    bool        `json:"merge,omitempty" doc:"Make the change on the revision in force, if that is another, as far as nobody else changed the same"`
}

// An Operation is one step of a JSON Patch.
type Operation struct {
	Op    string `json:"op" enum:"add,remove,replace,move,copy,test"`
	Path  string `json:"path"`
	From  string `json:"from,omitempty"`
	Value any    `json:"value,omitempty"`
}

// MarshalJSON leaves a value out only where the operation has none: null, false
// and 0 are values.
func (o Operation) MarshalJSON() ([]byte, error) {
	out := map[string]any{"op": o.Op, "path": o.Path}
	switch o.Op {
	case "add", "replace", "test":
		out["value"] = o.Value
	case "move", "copy":
		out["from"] = o.From
	}
	return json.Marshal(out)
}

// atRevision is a shot in an address, and which of its revisions is meant.
type atRevision struct {
	ShotPath
	Revision int `query:"revision" minimum:"-1" maximum:"2147483647" default:"-1" doc:"Left out, the one in force"`
}

// revisionAt returns the revision that is meant.
func (s *Server) revisionAt(ctx context.Context, in *atRevision) (*store.Revision, error) {
	if in.Revision < 0 {
		return s.Store.Head(ctx, in.ID)
	}
	return s.Store.Revision(ctx, in.ID, in.Revision)
}

// compiledAt returns the treatment of the revision that is meant, ready for evaluation.
func (s *Server) compiledAt(ctx context.Context, in *atRevision) (*render.Treatment, error) {
	rev, err := s.revisionAt(ctx, in)
	if err != nil {
		return nil, err
	}
	return s.Workspace.Treatment(ctx, in.ID, rev.Number)
}

// onPlate returns a shot's plate, and a revision of its treatment ready for evaluation.
func (s *Server) onPlate(ctx context.Context, shot string, revision int) (*picture.Source, *render.Treatment, error) {
	source, err := s.Workspace.Source(ctx, shot)
	if err != nil {
		return nil, nil, err
	}
	t, err := s.Workspace.Treatment(ctx, shot, revision)
	return source, t, err
}

type removalPath struct {
	ShotPath
	Removal string `path:"removal"`
}

func (s *Server) getStandings(ctx context.Context, in *atRevision) (*body[[]render.Standing], error) {
	rev, err := s.revisionAt(ctx, in)
	if err != nil {
		return nil, asProblem(err)
	}
	t, err := s.Workspace.Treatment(ctx, in.ID, rev.Number)
	if err != nil {
		return nil, asProblem(err)
	}
	all, err := t.Standings(ctx, rev.Stale)
	if err != nil {
		return nil, asProblem(err)
	}
	return &body[[]render.Standing]{all}, nil
}

type frameKeys struct {
	First int      `json:"first" doc:"Number of the frame that the first key is of"`
	Keys  []string `json:"keys" nullable:"false" doc:"For every frame the hash of what its picture is made from; empty where the plate is unchanged"`
}

func (s *Server) treatments(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "get-treatment", Method: http.MethodGet, Path: "/api/shots/{id}/treatment",
		Summary: "The revision in force, or another one",
	}, s.getTreatment)
	huma.Register(api, huma.Operation{
		OperationID: "export-treatment", Method: http.MethodGet, Path: "/api/shots/{id}/treatment/export",
		Summary: "The treatment in force, or an earlier one, with all data in place, as a file for the command line",
	}, s.exportTreatment)
	huma.Register(api, huma.Operation{
		OperationID: "edit-treatment", Method: http.MethodPatch, Path: "/api/shots/{id}/treatment",
		MaxBodyBytes: 16 << 20,
		Summary:      "Change the treatment; refused with 409 and the newer state if the edit started from an older one",
		Responses: map[string]*huma.Response{
			"409": {
				Description: "The edit started from a revision that is no longer in force. The body carries the one " +
					"that is.",
			},
		},
	}, s.editTreatment)
	for name, move := range map[string]func(context.Context, string) (*store.Revision, error){"undo": s.Store.Undo,
		"redo": s.Store.Redo} {
		huma.Register(api, huma.Operation{
			OperationID: name, Method: http.MethodPost, Path: "/api/shots/{id}/" + name,
			Summary: "Move to the " + map[string]string{"undo": "revision before",
				"redo": "revision that was left last"}[name],
		}, func(ctx context.Context, in *ShotPath) (*body[*store.Revision], error) {
			rev, err := move(ctx, in.ID)
			return s.revised(in.ID, rev, err)
		})
	}
	huma.Register(api, huma.Operation{
		OperationID: "get-paths", Method: http.MethodGet, Path: "/api/shots/{id}/paths/{removal}",
		Summary: "The points of a removal's strokes, by stroke",
	}, s.getPaths)
	huma.Register(api, huma.Operation{
		OperationID: "get-standings", Method: http.MethodGet, Path: "/api/shots/{id}/standings",
		Summary: "How far each removal is, stage by stage, and which of its frames no patch reaches",
	}, s.getStandings)
	huma.Register(api, huma.Operation{
		OperationID: "get-keys", Method: http.MethodGet, Path: "/api/shots/{id}/keys",
		Summary: "What the picture of every frame is made from, as hashes: frames with the key that one has need not " +
			"be fetched again",
	}, s.getKeys)
}

func (s *Server) getTreatment(ctx context.Context, in *atRevision) (*body[*store.Revision], error) {
	rev, err := s.revisionAt(ctx, in)
	return &body[*store.Revision]{rev}, asProblem(err)
}

func (s *Server) exportTreatment(ctx context.Context, in *atRevision) (*struct {
	Disposition string `header:"Content-Disposition"`
	Body        *treatment.Document
}, error) {
	shot, err := s.Store.Shot(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	rev, err := s.revisionAt(ctx, in)
	if err != nil {
		return nil, asProblem(err)
	}
	doc, err := s.Store.Inline(ctx, rev.Document)
	return &struct {
		Disposition string `header:"Content-Disposition"`
		Body        *treatment.Document
	}{`attachment; filename="` + shot.Name + `.treatment.json"`, doc}, asProblem(err)
}

func (s *Server) editTreatment(ctx context.Context, in *struct {
	ShotPath
	Prefer string `header:"Prefer" doc:"return=minimal leaves the document out of the answer (RFC 7240)"`
	Body   Edit
}) (*body[*store.Revision], error) {
	patch, err := json.Marshal(in.Body.Patch)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	var before json.RawMessage
	if len(in.Body.Before) > 0 {
		if before, err = json.Marshal(in.Body.Before); err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
	}
	rev, err := s.Store.Edit(
		ctx,
		in.ID,
		store.Change{
			From:   in.Body.Revision,
			Patch:  patch,
			Label:  in.Body.Label,
			ID:     in.Body.ID,
			Before: before,
			Merge:  in.Body.Merge,
		},
	)
	if err == nil && in.Prefer == "return=minimal" {
		rev = rev.Brief()
	}
	return s.revised(in.ID, rev, err)
}

func (s *Server) getPaths(ctx context.Context, in *struct {
	ShotPath
	Removal  string `path:"removal"`
	Revision int    `query:"revision" minimum:"-1" maximum:"2147483647" default:"-1" doc:"Left out, the one in force"`
}) (*body[map[string][][]float64], error) {
	r, err := s.Store.Removal(ctx, in.ID, in.Removal, in.Revision)
	if err != nil {
		return nil, asProblem(err)
	}
	paths := map[string][][]float64{}
	for _, source := range r.Fill.Sources {
		for _, stroke := range source.Strokes() {
			if stroke.Path != nil {
				paths[stroke.ID] = stroke.Path.Points
			}
		}
	}
	return &body[map[string][][]float64]{paths}, nil
}

func (s *Server) getKeys(ctx context.Context, in *struct {
	ShotPath
	Revision int         `query:"revision" minimum:"0" maximum:"2147483647" required:"true"`
	View     render.View `query:"view" enum:"result,patch,alone,matte,tint,light,grain,seen,marked,gathered,found"`
	Removal  string      `query:"removal" doc:"For all views but the result; of the patches alone and the mattes none is all of them"`
}) (*body[frameKeys], error) {
	source, t, err := s.onPlate(ctx, in.ID, in.Revision)
	if err != nil {
		return nil, asProblem(err)
	}
	out := frameKeys{First: source.Plates.First, Keys: make([]string, source.Plates.Last-source.Plates.First+1)}
	errs := make([]error, len(out.Keys))
	raster.Rows(0, len(out.Keys), func(k int) {
		if errs[k] = ctx.Err(); errs[k] == nil {
			out.Keys[k], errs[k] = source.Evaluator().Key(t, out.First+k, in.View, in.Removal)
		}
	})
	if err := errors.Join(errs...); err != nil {
		return nil, asProblem(err)
	}
	return &body[frameKeys]{out}, nil
}

// revised tells everyone of a new revision and answers with it.
func (s *Server) revised(shot string, rev *store.Revision, err error) (*body[*store.Revision], error) {
	if err != nil {
		return nil, asProblem(err)
	}
	s.Hub.Send(live.RevisionChanged{ShotID: shot, Number: rev.Number})
	return &body[*store.Revision]{rev}, nil
}

func (s *Server) shotChanged(id string) { s.Hub.Send(live.ShotChanged{ShotID: id}) }
