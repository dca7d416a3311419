package sheet

import (
	"encoding/csv"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
)

func TestWrite(t *testing.T) {
	noon := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	for name, v := range map[string]any{
		"a struct with a list": model.Handoffs{Handoffs: []model.Handoff{{Number: 7, Author: "odile",
			About: model.About{Note: "=1+1, \"quoted\"\nand more", Tasks: []string{"BRL-1", "BRL-2"}},
			At:    noon}}},
		"a map with a list": map[string]any{"refusals": []model.Refusal{},
			"handoffs": []model.Handoff{{Number: 7, Author: "odile", About: model.About{Note: "=1+1, \"quoted\"\nand more",
				Tasks: []string{"BRL-1", "BRL-2"}}, At: noon}}},
	} {
		var out strings.Builder
		if err := Write(&out, v); err != nil {
			t.Fatal(name, err)
		}
		rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
		if err != nil || len(rows) != 2 {
			t.Fatal(name, rows, err)
		}
		got := map[string]string{}
		for i, key := range rows[0] {
			got[key] = rows[1][i]
		}
		for key, want := range map[string]string{"number": "7", "author": "odile", "note": "'=1+1, \"quoted\"\nand more",
			"at": "2026-03-02T12:00:00Z", "tasks": "BRL-1, BRL-2", "stage": ""} {
			if got[key] != want {
				t.Errorf("%s: %s is %q, want %q", name, key, got[key], want)
			}
		}
	}
}

func TestWhatIsInsideHasBothKeys(t *testing.T) {
	var out strings.Builder
	if err := Write(&out, []model.Asset{{Path: "a.png", Lock: &model.Lock{Holder: "tamsin", Fence: 3}}, {Path: "b.png"}}); err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(out.String(), "\r\n")
	if !strings.Contains(lines[0], "lock.holder") || !strings.Contains(lines[1], ",tamsin,") || strings.Contains(lines[2], "tamsin") ||
		strings.Contains(lines[0], "waitlist") {
		t.Error(out.String())
	}
	if err := Write(&out, struct{ N int }{1}); err != ErrNoList {
		t.Error(err)
	}
}
