package desk

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"

	"kettletarn/internal/workspace/disk"
)

// settings are what a person chose at the desk.
type settings struct {
	// AutoUpdate says, by workspace, that what is newer comes by itself where nothing clashes.
	AutoUpdate map[string]bool `json:"auto_update"`
}

func settingsFile() string { return filepath.Join(folder(), "settings.json") }

func readSettings() (s settings, err error) {
	text, err := disk.ReadSmall(settingsFile(), 1<<20)
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	if s.AutoUpdate == nil {
		s.AutoUpdate = map[string]bool{}
	}
	return s, err
}

func (s settings) write() error {
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteSynced(settingsFile(), text)
}
