package transfer

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"github.com/adrg/xdg"
)

// paceFile keeps how fast files came from each service the last time, in bytes a second, by address.
func paceFile() string { return filepath.Join(xdg.StateHome, "kettle-tarn", "pace.json") }

// Pace is how fast files came from a service the last time that there were enough of them to tell, in bytes a second; 0 where that is not
// known.
func Pace(service string) int64 {
	paces := map[string]int64{}
	text, err := os.ReadFile(paceFile())
	if err != nil || json.Unmarshal(text, &paces) != nil {
		return 0
	}
	return paces[service]
}

// notePace keeps it.
func (w *Way) notePace(size int64, took time.Duration) {
	if size < 4<<20 || took <= 0 {
		return
	}
	paces := map[string]int64{}
	if text, err := os.ReadFile(paceFile()); err == nil {
		_ = json.Unmarshal(text, &paces)
	}
	if paces == nil {
		paces = map[string]int64{}
	}
	paces[w.Client.URL()] = int64(float64(size) / took.Seconds())
	if text, err := json.Marshal(paces); err == nil {
		_ = os.WriteFile(paceFile(), text, 0o600)
	}
}
