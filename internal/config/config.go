// Package config is what somebody has set for all commands: where the stores and the cloud are, and names for
// targets. It stands in one small file; each setting can be given by a variable of the environment or a flag too,
// which come before it, in this order.
package config

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/adrg/xdg"
	"go.yaml.in/yaml/v4"

	"brickrow/internal/files"
	"brickrow/internal/shareddb"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Setting is one thing that can be set.
type Setting struct {
	Name     string // in the file
	Variable string // of the environment
	Flag     string // without its dashes; "" is none
	Meaning  string
	Default  string // in words
}

// Settings are all that can be set, in the order in which they are told.
var Settings = []Setting{
	{"home", "BRICKROW_HOME", "home", "folder of what is yours alone: who you are, credentials, a store in a file", "the user's data folder"},
	{"store", "BRICKROW_STORE", "store", "where the stacks are kept: a name under stores, postgres://user@host/database, or file", "file"},
	{"cloud", "BRICKROW_CLOUD", "cloud", "URL of the cloud of the targets", "the stand-in in the folder of the data"},
	{"queue", "BRICKROW_QUEUE", "", "the queue of --queue without a name, and of workers", "runs"},
	{"at_once", "BRICKROW_AT_ONCE", "", "how many runs a worker carries out at the same time", "4"},
	{"yard_speed", "BRICKROW_YARD_SPEED", "", "how much faster than nominal the stand-in cloud is", "1"},
	{"ground", "BRICKROW_GROUND", "", "what the terminal's ground is: dark or light", "as the terminal says"},
	{"contrast", "BRICKROW_CONTRAST", "", "of the interface: usual, or strong", "what was chosen in the interface"},
}

// File is a configuration file.
type File struct {
	Path    string
	There   bool
	Values  map[string]string // of settings, by name
	Stores  map[string]string // places of stores, by name
	Targets map[string]string // account/region, by name
	lines   map[string]int
}

// Path is where the configuration file is, unless BRICKROW_CONFIG says otherwise.
func Path() string {
	if path := os.Getenv("BRICKROW_CONFIG"); path != "" {
		return path
	}
	return filepath.Join(xdg.ConfigHome, "brickrow", "config.yaml")
}

// Read reads the configuration file; one that is not there says nothing. What is wrong in it is an error that says
// where.
func Read() (*File, error) {
	f := &File{Path: Path(), Values: map[string]string{}, Stores: map[string]string{}, Targets: map[string]string{}, lines: map[string]int{}}
	text, err := files.Read(f.Path, 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the configuration: %w", err)
	}
	f.There = true
	if strings.TrimSpace(string(text)) == "" {
		return f, nil
	}
	var found tosca.Findings
	f.read(text, &found)
	if err == nil && f.letsIn() {
		info, err := os.Stat(f.Path)
		if err == nil {
			err = files.Private(f.Path, info)
		}
		if err != nil {
			return nil, fmt.Errorf("a password stands in the configuration: %w", err)
		}
	}
	if found.HasErrors() {
		found.Sort()
		lines := make([]string, len(found))
		for i, x := range found {
			lines[i] = x.String()
		}
		return nil, errors.New(strings.Join(lines, "\n"))
	}
	return f, nil
}

func (f *File) read(text []byte, found *tosca.Findings) {
	root := tosca.ParseYAML(f.Path, text, found)
	if root == nil || root.Kind == yaml.ScalarNode && root.ShortTag() == "!!null" {
		return
	}
	known := []string{"stores", "targets"}
	for _, s := range Settings {
		known = append(known, s.Name)
	}
	for _, e := range tosca.Entries(f.Path, root, "the configuration", found) {
		name := e.Key.Name
		f.lines[name] = e.Key.Line
		switch {
		case name == "stores" || name == "targets":
			into := f.Stores
			if name == "targets" {
				into = f.Targets
			}
			for _, x := range tosca.Entries(f.Path, e.Node, name, found) {
				if x.Node.Kind != yaml.ScalarNode {
					found.Errorf(x.Pos, "wrong-type", "", "'%s' must be text", x.Key.Name)
					continue
				}
				into[x.Key.Name] = x.Node.Value
				if _, ok := stack.ParseTarget(x.Node.Value); name == "targets" && !ok {
					found.Errorf(x.Pos, "bad-target", "write account/region, such as workshop/alder-1", "'%s' is not a target", x.Node.Value)
				}
			}
		case !slices.Contains(known, name):
			found.Errorf(e.Key.Pos, "unknown-key", tosca.Suggest(name, known), "the configuration has no key '%s'", name)
		case e.Node.Kind != yaml.ScalarNode:
			found.Errorf(e.Pos, "wrong-type", "", "'%s' must be text", name)
		default:
			f.Values[name] = e.Node.Value
			if why := wrong(name, e.Node.Value); why != "" {
				found.Errorf(e.Pos, "invalid-value", "", "%s: %s", name, why)
			}
		}
	}
}

// words are the legal values of settings that have few.
var words = map[string][]string{"ground": {"dark", "light"}, "contrast": {"usual", "strong"}}

// wrong says what is wrong with a value; "" is nothing.
func wrong(name, value string) string {
	switch name {
	case "at_once":
		if n, err := strconv.Atoi(value); err != nil || n < 1 {
			return fmt.Sprintf("'%s' is no number above 0", value)
		}
	case "yard_speed":
		if n, err := strconv.ParseFloat(value, 64); err != nil || n <= 0 || n > 1e6 {
			return fmt.Sprintf("'%s' is no number above 0, such as 2", value)
		}
	case "ground", "contrast":
		if legal := words[name]; value != "" && !slices.Contains(legal, value) {
			return fmt.Sprintf("'%s' is neither %s", value, strings.Join(legal, " nor "))
		}
	case "cloud":
		if u, err := url.Parse(value); value != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "") {
			return fmt.Sprintf("'%s' is no URL such as https://cloud.example", value)
		}
	}
	return ""
}

// letsIn reports whether a password stands in the file.
func (f *File) letsIn() bool {
	for _, place := range append([]string{f.Values["store"]}, mapValues(f.Stores)...) {
		if u, err := url.Parse(place); err == nil {
			if _, set := u.User.Password(); set || u.Query().Has("password") {
				return true
			}
		}
	}
	return false
}

func mapValues(m map[string]string) []string {
	var out []string
	for _, v := range m {
		out = append(out, v)
	}
	return out
}

// Value is what a setting is, and where that comes from.
type Value struct {
	Setting string `json:"setting"`
	Value   string `json:"value"`
	Origin  string `json:"origin"` // such as the flag --store, BRICKROW_STORE, or config.yaml:3
	Meaning string `json:"meaning"`
}

// Get is what a setting is: by a flag, whose value is given, by the environment, by the file, or "".
func (f *File) Get(name, flag string) string { return f.get(name, flag).Value }

func (f *File) get(name, flag string) Value {
	i := slices.IndexFunc(Settings, func(s Setting) bool { return s.Name == name })
	s := Settings[i]
	v := Value{Setting: name, Meaning: s.Meaning, Origin: "not set: " + s.Default}
	switch text, set := os.LookupEnv(s.Variable); {
	case flag != "":
		v.Value, v.Origin = flag, "the flag --"+s.Flag
	case set && text == "" && name == "store": // which one is meant is not known: nothing else is taken for it
		v.Origin = "the variable " + s.Variable + ", which is empty"
	case set && text != "":
		if v.Value, v.Origin = text, "the variable "+s.Variable; words[name] != nil && wrong(name, text) != "" {
			v.Value, v.Origin = "", v.Origin+", which is not understood: "+wrong(name, text)
		}
	case f.Values[name] != "":
		v.Value, v.Origin = f.Values[name], fmt.Sprintf("%s:%d", f.Path, f.lines[name])
	}
	if name == "store" {
		if place, named := f.Stores[v.Value]; named {
			v.Value, v.Origin = place, v.Origin+", stores: "+v.Value
		}
	}
	return v
}

// All are all settings, with where they come from; flags are what was given, by name. What lets one in is not shown.
func (f *File) All(flags map[string]string) []Value {
	out := make([]Value, len(Settings))
	for i, s := range Settings {
		out[i] = f.get(s.Name, flags[s.Name])
		out[i].Value = shareddb.Shown(out[i].Value)
	}
	return out
}

// Target is a target by the name that it has in the file, or as it is given.
func (f *File) Target(text string) string {
	if at, ok := f.Targets[text]; ok {
		return at
	}
	return text
}
