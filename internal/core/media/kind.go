package media

import (
	"path"
	"regexp"
	"slices"
	"strings"
)

// Kinds of asset, as people tell them apart.
const (
	Texture   = "texture"
	Model     = "model"
	Sound     = "sound"
	Schematic = "schematic"
	Board     = "board"
	Data      = "data"
	Text      = "text"
	Tabular   = "table"
	Document  = "document"
	Other     = "other"
)

// endings are the endings of names by kind. What is not among them is Other.
var endings = map[string][]string{
	Texture:   {".png", ".jpg", ".jpeg", ".gif", ".bmp", ".tif", ".tiff", ".webp", ".tga", ".psd", ".dds", ".exr"},
	Model:     {".glb", ".gltf", ".obj", ".stl"},
	Sound:     {".wav", ".flac", ".ogg", ".oga", ".mp3"},
	Schematic: {".kicad_sch"},
	Board: {".kicad_pcb", ".gbr", ".ger", ".gtl", ".gbl", ".gto", ".gbo", ".gts", ".gbs", ".gtp", ".gbp", ".gm1", ".gko", ".drl", ".xln",
		".exc"},
	Data: {".json", ".xml", ".tmx", ".tsx", ".level", ".scene", ".yaml", ".yml"},
	Text: {".txt", ".md", ".toml", ".ini", ".cfg", ".lua", ".py", ".js", ".cs", ".c", ".h", ".cpp", ".glsl", ".hlsl", ".vert", ".frag",
		".ink", ".dialogue", ".step", ".stp", ".mtl", ".svg"},
	Tabular:  {".csv", ".tsv"},
	Document: {".pdf"},
}

// Kinds lists the kinds in the order in which they are shown.
var Kinds = []string{Texture, Model, Sound, Schematic, Board, Data, Text, Tabular, Document, Other}

var kindByEnding = func() map[string]string {
	m := map[string]string{}
	for kind, list := range endings {
		for _, e := range list {
			m[e] = kind
		}
	}
	return m
}()

// KindOf is the kind of asset that a name stands for.
func KindOf(name string) string {
	if kind, ok := kindByEnding[strings.ToLower(path.Ext(name))]; ok {
		return kind
	}
	return Other
}

// EndingsOf are the endings of the names of a kind, in small letters with their dots; except says that those of [Other] are all but them.
// They are nil where there is no such kind.
func EndingsOf(kind string) (list []string, except bool) {
	if kind != Other {
		return endings[kind], false
	}
	for e := range kindByEnding {
		list = append(list, e)
	}
	slices.Sort(list)
	return list, true
}

// KindPattern is a regular expression, to be used without regard to case, that the names of a kind match, and "" where there is no such
// kind.
func KindPattern(kind string) string {
	var list []string
	if kind == Other {
		for e := range kindByEnding {
			list = append(list, regexp.QuoteMeta(e))
		}
		slices.Sort(list)
		return `(?!.*(` + strings.Join(list, "|") + `)$)^`
	}
	for _, e := range endings[kind] {
		list = append(list, regexp.QuoteMeta(e))
	}
	if len(list) == 0 {
		return ""
	}
	return `(` + strings.Join(list, "|") + `)$`
}
