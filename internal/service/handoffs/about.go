package handoffs

import (
	"encoding/json"
	"strings"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
)

// What people say of a handoff (model.About) is looked at here on its way in, and goes here into the record that the handoff's digest
// covers, and out of it again.

func checkAbout(about model.About) error {
	note := strings.TrimSpace(about.Note)
	switch {
	case note == "":
		return model.NewProblem(model.BadRequest, "add one with -m: what was done, and why", "a handoff needs a note")
	case len(note) > ground.MaxNote:
		return model.NewProblem(model.BadRequest, "shorten it; longer texts are better kept in a file of the project",
			"the note has %d bytes, and the limit is %d", len(note), ground.MaxNote)
	case len(about.Tasks) > 50:
		return model.NewProblem(model.BadRequest, "", "a handoff has at most 50 task ids")
	}
	for _, task := range about.Tasks {
		if task == "" {
			return model.NewProblem(model.BadRequest, "take for example: BRL-112", "the id of a task is not empty")
		}
		if err := ground.Written("the id of a task", task, 60, false); err != nil {
			return err
		}
	}
	if err := ground.Written("the stage", about.Stage, 40, false); err != nil {
		return err
	}
	return ground.Written("the note", note, ground.MaxNote, true)
}

func record(about model.About, h *chain.Handoff) {
	h.Note, h.Tasks, h.Stage = strings.TrimSpace(about.Note), about.Tasks, about.Stage
}

func aboutOf(h *chain.Handoff) model.About {
	return model.About{Note: h.Note, Tasks: append([]string{}, h.Tasks...), Stage: h.Stage}
}

// fingerprint tells whether a key is used for the same send again. What it covers, and how, stays as it is: it is compared with those that
// were kept by releases before.
func (send *Send) fingerprint() (chunk.Digest, error) {
	about := send.About
	if len(about.Tasks) == 0 {
		about.Tasks = nil
	}
	text, err := json.Marshal(struct {
		Key, Workspace, Note string
		Tasks                []string
		Stage                string
		KeepLocks, TakeFree  bool
		Changes              []Change
		Older                bool `json:",omitempty"`
	}{send.Key, send.Workspace, about.Note, about.Tasks, about.Stage, send.KeepLocks, send.TakeFree, send.Changes, send.Older})
	return chunk.Sum(text), err
}
