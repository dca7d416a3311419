// Package kit is the file that says of a folder that what is in it came from a kit: which one, which release of it, and what came. It is an
// asset of the project that uses the kit, so that the history, branches, rollbacks and packs carry it as they carry the rest. Its form is
// specified in docs/kits.md.
package kit

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"sort"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/rules"
)

// File is the name of the file, in the folder that it is about.
const File = rules.KitFile

// Bounds of one: its size in bytes, and how many assets it lists.
const (
	MaxSize   = 16 << 20
	MaxAssets = 50_000
)

const about = `# What is in this folder came from a kit. tarn kit update brings what is newer, tarn kit detach makes all of it ordinary;
# this file is written by those, and not by hand.
`

// Asset is one that came: its path below the folder, and its content.
type Asset struct {
	Path    string
	Content chunk.Digest
}

// Use is what such a file says. Handoff is the digest of that of the release, by which the project that made it is known again, whatever
// has its key later on; zero in files from before it was written. Stay says that the use keeps to its release.
type Use struct {
	Project string
	Kit     string
	Release int
	Handoff chunk.Digest
	Stay    bool
	Assets  []Asset
}

type useText struct {
	Project string      `toml:"project"`
	Kit     string      `toml:"kit"`
	Release int         `toml:"release"`
	Handoff string      `toml:"handoff,omitempty"`
	Stay    bool        `toml:"stay,omitempty"`
	Asset   []assetText `toml:"asset"`
}

type assetText struct {
	Path    string `toml:"path"`
	Content string `toml:"content"`
}

// Name is the kit with its project: brinelight/lamp-parts.
func (u *Use) Name() string { return u.Project + "/" + u.Kit }

// Content is what came at a path below the folder, and whether something did.
func (u *Use) Content(below string) (chunk.Digest, bool) {
	i := sort.Search(len(u.Assets), func(i int) bool { return u.Assets[i].Path >= below })
	if i < len(u.Assets) && u.Assets[i].Path == below {
		return u.Assets[i].Content, true
	}
	return chunk.Digest{}, false
}

// Encode writes it; the assets are in the order of their paths then.
func (u *Use) Encode() ([]byte, error) {
	sort.Slice(u.Assets, func(i, j int) bool { return u.Assets[i].Path < u.Assets[j].Path })
	text := useText{u.Project, u.Kit, u.Release, "", u.Stay, make([]assetText, len(u.Assets))}
	if u.Handoff != (chunk.Digest{}) {
		text.Handoff = u.Handoff.String()
	}
	for i, a := range u.Assets {
		text.Asset[i] = assetText{a.Path, a.Content.String()}
	}
	out := bytes.NewBufferString(about)
	err := toml.NewEncoder(out).Encode(text)
	if err == nil && out.Len() > MaxSize {
		err = fmt.Errorf("it would be larger than %d bytes", MaxSize)
	}
	return out.Bytes(), err
}

// Parse reads one. Nothing of it is trusted: paths are legal and below the folder, and none is there twice.
func Parse(text []byte) (*Use, error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("it is larger than %d bytes", MaxSize)
	}
	var t useText
	if err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&t); err != nil {
		return nil, err
	}
	if !rules.KitNames.MatchString(t.Project) || !rules.KitNames.MatchString(t.Kit) || t.Release < 1 || t.Release > 1_000_000_000 {
		return nil, errors.New("it names no release of a kit")
	}
	if len(t.Asset) > MaxAssets {
		return nil, fmt.Errorf("it lists %d assets, and the limit is %d", len(t.Asset), MaxAssets)
	}
	u := &Use{Project: t.Project, Kit: t.Kit, Release: t.Release, Stay: t.Stay, Assets: make([]Asset, len(t.Asset))}
	if t.Handoff != "" {
		var err error
		if u.Handoff, err = chunk.ParseDigest(t.Handoff); err != nil {
			return nil, errors.New("it names no handoff")
		}
	}
	seen := map[string]bool{}
	for i, a := range t.Asset {
		if bad := assetpath.Check(a.Path); bad != nil || seen[assetpath.Fold(a.Path)] {
			return nil, fmt.Errorf("%q is no path that an asset of a kit has", assetpath.Printable(a.Path))
		}
		seen[assetpath.Fold(a.Path)] = true
		digest, err := chunk.ParseDigest(a.Content)
		if err != nil {
			return nil, fmt.Errorf("%s has no content", assetpath.Printable(a.Path))
		}
		u.Assets[i] = Asset{a.Path, digest}
	}
	sort.Slice(u.Assets, func(i, j int) bool { return u.Assets[i].Path < u.Assets[j].Path })
	return u, nil
}

// Folder is the folder that a path of such a file is about, and whether the path is that of one.
func Folder(file string) (dir string, ok bool) {
	dir, base := path.Split(file)
	return strings.TrimSuffix(dir, "/"), dir != "" && assetpath.Fold(base) == File
}

// ParseName reads PROJECT/NAME, with @N behind for a release; 0 where that is left out.
func ParseName(text string) (project, name string, release int, err error) {
	full, number, at := strings.Cut(text, "@")
	if at {
		if n, scanned := fmt.Sscanf(number+" .", "%d .", &release); n != 1 || scanned != nil || release < 1 || fmt.Sprint(release) != number {
			return "", "", 0, fmt.Errorf("%q names no release of a kit; that looks like lamp-parts@3", text)
		}
	}
	name = full
	if before, behind, ok := strings.Cut(full, "/"); ok {
		project, name = before, behind
		if !rules.KitNames.MatchString(project) {
			return "", "", 0, fmt.Errorf("%q is no project's key", project)
		}
	}
	if !rules.KitNames.MatchString(name) {
		return "", "", 0, fmt.Errorf("%q is no kit's name; that looks like lamp-parts, or brinelight/lamp-parts", name)
	}
	return project, name, release, nil
}
