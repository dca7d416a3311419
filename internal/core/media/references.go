package media

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"net/url"
	"path"
	"strings"
)

// MaxReferences is how much of a file is read for the names in it, in bytes.
const MaxReferences = 16 << 20

// HasReferences tells, by its name, whether a file may name others that belong to it.
func HasReferences(name string) bool { return reader(name) != nil }

// References lists the files that a file names, as it names them, with slashes: relative to its own folder, mostly. It knows glTF 2.0
// (buffers and images), OBJ and MTL (material libraries and maps), the S-expression schematics and boards (sheets and models), and Tiled
// maps as XML and as JSON (tile sets and images). What a damaged file named up to its damage comes with the error.
func References(name string, r io.Reader) ([]string, error) {
	read := reader(name)
	if read == nil {
		return nil, nil
	}
	data, err := io.ReadAll(io.LimitReader(r, MaxReferences))
	if err != nil {
		return nil, err
	}
	found, err := read(data)
	out, seen := []string{}, map[string]bool{}
	for _, f := range found {
		f = strings.ReplaceAll(strings.TrimSpace(f), `\`, "/")
		if f == "" || strings.HasPrefix(f, "data:") || strings.Contains(f, "://") || strings.ContainsAny(f, "\x00\n") || seen[f] {
			continue
		}
		seen[f] = true
		out = append(out, f)
	}
	return out, err
}

func reader(name string) func([]byte) ([]string, error) {
	ext := strings.ToLower(path.Ext(name))
	switch {
	case ext == ".gltf":
		return gltfNames
	case ext == ".glb":
		return glbNames
	case ext == ".obj":
		return func(data []byte) ([]string, error) { return lineNames(data, "mtllib") }
	case ext == ".mtl":
		return func(data []byte) ([]string, error) {
			return lineNames(data, "map_", "bump", "disp", "decal", "refl", "norm")
		}
	case strings.HasSuffix(ext, "_sch"), strings.HasSuffix(ext, "_pcb"):
		return expressionNames
	case ext == ".tmx", ext == ".tsx":
		return tiledXMLNames
	case ext == ".tmj", ext == ".tsj":
		return tiledJSONNames
	}
	return nil
}

// gltfNames: glTF 2.0, 3.6.1 and 3.8: the uri of buffers and images is a percent-encoded relative reference.
func gltfNames(data []byte) (out []string, err error) {
	var doc struct {
		Buffers, Images []struct{ URI string }
	}
	err = json.Unmarshal(data, &doc)
	for _, u := range append(doc.Buffers, doc.Images...) {
		if plain, bad := url.PathUnescape(u.URI); bad == nil {
			out = append(out, plain)
		}
	}
	return out, err
}

// glbNames: glTF 2.0, 4.4: a header of 12 bytes, then chunks of length, type and data, the first of them JSON.
func glbNames(data []byte) ([]string, error) {
	if len(data) < 20 || string(data[:4]) != "glTF" || string(data[16:20]) != "JSON" {
		return nil, errors.New("it is no binary glTF file")
	}
	n := binary.LittleEndian.Uint32(data[12:])
	if uint64(n) > uint64(len(data)-20) {
		return nil, errors.New("its JSON is cut off")
	}
	return gltfNames(data[20 : 20+n])
}

// lineNames finds lines that begin with one of the words; the name is the last word behind the options, or, where a name has spaces, all
// that is behind the first word.
func lineNames(data []byte, words ...string) (out []string, err error) {
	for _, line := range strings.Split(string(data), "\n") {
		word, rest, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok {
			continue
		}
		for _, w := range words {
			if strings.HasPrefix(strings.ToLower(word), w) {
				rest = strings.TrimSpace(rest)
				if !strings.HasPrefix(rest, "-") {
					out = append(out, rest)
				} else {
					fields := strings.Fields(rest)
					out = append(out, fields[len(fields)-1])
				}
				break
			}
		}
	}
	return out, nil
}

// expressionNames finds (model "file" …) and (property "Sheetfile" "file" …) in S-expressions.
func expressionNames(data []byte) (out []string, err error) {
	var last [3]string // the tokens before
	for len(data) > 0 {
		switch c := data[0]; {
		case c == '"':
			end := 1
			for end < len(data) && data[end] != '"' {
				if data[end] == '\\' {
					end++
				}
				end++
			}
			if end >= len(data) {
				return out, errors.New("a text is not closed")
			}
			text := strings.ReplaceAll(strings.ReplaceAll(string(data[1:end]), `\"`, `"`), `\\`, `\`)
			data = data[end+1:]
			if last[1] == "(" && last[2] == "model" || last[0] == "(" && last[1] == "property" &&
				(last[2] == `"Sheetfile` || last[2] == `"Sheet file`) {
				out = append(out, text[strings.LastIndexByte(text, '}')+1:])
			}
			last = [3]string{last[1], last[2], `"` + text}
		case c == '(' || c == ')':
			last = [3]string{last[1], last[2], string(c)}
			data = data[1:]
		case bytes.IndexByte([]byte(" \t\r\n"), c) >= 0:
			data = data[1:]
		default:
			end := bytes.IndexAny(data, " \t\r\n()\"")
			if end < 0 {
				end = len(data)
			}
			last = [3]string{last[1], last[2], string(data[:end])}
			data = data[end:]
		}
	}
	for i, name := range out {
		out[i] = strings.TrimPrefix(name, "/") // behind a variable for the project's folder
	}
	return out, nil
}

// tiledXMLNames: the source of tilesets, images and templates.
func tiledXMLNames(data []byte) (out []string, err error) {
	d := xml.NewDecoder(bytes.NewReader(data))
	for {
		token, err := d.Token()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		if e, ok := token.(xml.StartElement); ok {
			for _, a := range e.Attr {
				if a.Name.Local == "source" || a.Name.Local == "template" {
					out = append(out, a.Value)
				}
			}
		}
	}
}

// tiledJSONNames: "source", "image" and "template" anywhere in it.
func tiledJSONNames(data []byte) (out []string, err error) {
	var doc any
	err = json.Unmarshal(data, &doc)
	var walk func(any)
	walk = func(v any) {
		switch v := v.(type) {
		case []any:
			for _, e := range v {
				walk(e)
			}
		case map[string]any:
			for key, e := range v {
				if text, ok := e.(string); ok && (key == "source" || key == "image" || key == "template") {
					out = append(out, text)
				}
				walk(e)
			}
		}
	}
	walk(doc)
	return out, err
}
