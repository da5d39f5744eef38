package measure

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/v1"
	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
	"gopkg.in/ini.v1"

	"envask/internal/redact"
)

// mostDocument bounds the documents that are read, in bytes; mostDocuments, how many of a format.
const (
	mostDocument  = 64 << 10
	mostDocuments = 1200
)

// Documents of this machine stay valid when they are redacted, keep their keys and the kinds of their values, and change no more when they
// are redacted again.
func TestDocumentsOfTheMachineStayValid(t *testing.T) {
	if testing.Short() {
		t.Skip("it reads thousands of files")
	}
	learned := redact.NewLearned()
	e := redact.NewEngine(redact.Options{Aliases: redact.NewTable(), Learned: learned, TempDir: t.TempDir()})
	redacted := func(name string, in []byte) []byte {
		var out bytes.Buffer
		_, err := e.File(&out, bytes.NewReader(in), redact.Source{Name: name})
		require.NoError(t, err, name)
		return out.Bytes()
	}
	all, changed := map[string]int{}, 0
	for _, file := range documents() {
		format := strings.TrimPrefix(filepath.Ext(file), ".")
		data, err := os.ReadFile(file)
		if err != nil || bytes.HasPrefix(data, []byte("\x1f\x8b")) {
			continue
		}
		before, err := shapeOf(format, data)
		if err != nil {
			continue // it was none before
		}
		all[format]++
		name := "x." + format
		out := redacted(name, data)
		if !bytes.Equal(out, data) {
			changed++
		}
		after, err := shapeOf(format, out)
		if err != nil {
			t.Errorf("%s is no %s any more: %v", file, format, err)
			continue
		}
		if before != after {
			t.Errorf("%s has other keys or kinds", file)
		}
		if again := redacted(name, out); !bytes.Equal(again, out) {
			t.Errorf("%s changes again", file)
		}
	}
	n := 0
	for _, k := range slices.Sorted(maps.Keys(all)) {
		t.Logf("%-5s %6d documents", k, all[k])
		n += all[k]
	}
	t.Logf("%d documents, %d of them changed", n, changed)
	if _, err := os.Stat("/usr/share"); err == nil {
		require.Greater(t, n, 200)
	}
}

func documents() (out []string) {
	count := map[string]int{}
	roots := []string{"/etc", "/usr/share", "/usr/lib", "/usr/local", "/opt"}
	for _, k := range Kinds() {
		if k.Name == "module cache" {
			roots = append(roots, k.Roots...)
		}
	}
	for _, pattern := range roots {
		matches, _ := filepath.Glob(pattern) // the patterns are ours
		for _, root := range matches {
			_ = filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
				if err != nil || !d.Type().IsRegular() {
					return nil
				}
				switch ext := filepath.Ext(p); ext {
				case ".json", ".yaml", ".yml", ".toml", ".xml", ".ini":
					if info, err := d.Info(); err == nil && info.Size() > 0 && info.Size() <= mostDocument && count[ext] < mostDocuments {
						count[ext]++
						out = append(out, p)
					}
				}
				return nil
			})
		}
	}
	return out
}

// shapeOf gives the keys of a document and the kinds of its values.
func shapeOf(format string, data []byte) (string, error) {
	var v any
	switch format {
	case "json":
		if err := json.Unmarshal(data, &v); err != nil {
			return "", err
		}
	case "yaml", "yml":
		var nodes []any
		for dec := yaml.NewDecoder(bytes.NewReader(data)); ; {
			var doc any
			err := dec.Decode(&doc)
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return "", err
			}
			nodes = append(nodes, doc)
		}
		v = nodes
	case "toml":
		if err := toml.Unmarshal(data, &v); err != nil {
			return "", err
		}
	case "xml":
		return tagsOf(data)
	case "ini":
		f, err := ini.Load(data)
		if err != nil {
			return "", err
		}
		var keys []string
		for _, s := range f.Sections() {
			keys = append(keys, s.Name()+": "+strings.Join(s.KeyStrings(), " "))
		}
		return strings.Join(keys, "\n"), nil
	}
	return kindsOf(v), nil
}

func tagsOf(data []byte) (string, error) {
	var out strings.Builder
	for dec := xml.NewDecoder(bytes.NewReader(data)); ; {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return out.String(), nil
		}
		if err != nil {
			return "", err
		}
		switch x := token.(type) {
		case xml.StartElement:
			fmt.Fprintf(&out, "<%s", x.Name.Local)
			for _, a := range x.Attr {
				fmt.Fprintf(&out, " %s", a.Name.Local)
			}
		case xml.EndElement:
			out.WriteString(">")
		}
	}
}

// kindsOf writes a value without what is in it. Keys may hold names of people; how many there are stays.
func kindsOf(v any) string {
	switch x := v.(type) {
	case map[string]any:
		var parts []string
		for _, v := range x {
			parts = append(parts, kindsOf(v))
		}
		slices.Sort(parts)
		return "{" + strings.Join(parts, ",") + "}"
	case []any:
		var parts []string
		for _, v := range x {
			parts = append(parts, kindsOf(v))
		}
		return "[" + strings.Join(parts, ",") + "]"
	case string:
		return "s"
	case bool:
		return "b"
	case nil:
		return "n"
	}
	return "#"
}
