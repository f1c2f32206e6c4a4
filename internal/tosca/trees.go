package tosca

import (
	"bytes"
	"hash/crc32"
	"io"
	"sync"

	"go.yaml.in/yaml/v4"
)

// A long template is long because of its node templates. These are cut into
// parts, each a map of its own, and one is read while the next is parsed: so the
// tree of the whole is never there. Whatever is unusual, such as an alias that
// crosses from one part to another, makes a part no YAML of its own, and the
// text is then parsed as a whole; so is text that is wrong, for the sake of the
// message.

// Trees keeps the trees of the parts of a template from one reading to the next,
// so that after a change of a long template only the part that has changed is
// parsed again. It is for one reading at a time; another one that comes
// meanwhile does without. The zero value is ready to use.
type Trees struct {
	mu    sync.Mutex
	parts map[string]*part
}

// part is the tree of a part of a text.
type part struct {
	node *yaml.Node
	line int // in which it begins, counted from 0
}

// partsFrom is how long a text must be to be read in parts, in bytes.
const partsFrom = 16 << 10

// nodesKey names the map that is cut into parts.
const nodesKey = "node_templates"

// inParts is a text that is read in parts: the tree of all but the node
// templates, the empty value that stands in their place, and their parts as
// they come, in their order. A part that is nil is no YAML of its own, and ends
// them.
type inParts struct {
	root, place *yaml.Node
	parts       <-chan *yaml.Node
	about       int // how many entries there are, roughly
}

// cutUp begins to parse a text in parts; nil where it has to be parsed as a
// whole. Kept may be nil. All parts have to be taken.
func cutUp(text []byte, kept *Trees) *inParts {
	if len(text) < partsFrom || bytes.IndexByte(text, '\t') >= 0 {
		return nil
	}
	from, indent := nodesLine(text)
	if from < 0 {
		return nil
	}
	pieces, end := splitMap(text, from, indent)
	if len(pieces) == 0 {
		return nil
	}
	first := bytes.Count(text[:from], []byte("\n"))
	lines := bytes.Count(text[from:end], []byte("\n"))
	root := parseOne(bytes.Join([][]byte{text[:from], bytes.Repeat([]byte("\n"), lines), text[end:]}, nil))
	if root == nil || root.Kind != yaml.MappingNode {
		return nil
	}
	place := emptyValue(root, first)
	if place == nil {
		return nil
	}
	parts := make(chan *yaml.Node)
	go func() {
		defer close(parts)
		kept.parse(pieces, first, parts)
	}()
	return &inParts{root, place, parts, len(pieces) * endsAt}
}

// ahead is how many parts are parsed at the same time, before they are taken.
const ahead = 3

// parse parses pieces of a text, of which the first begins after some lines,
// those that are kept only once.
func (t *Trees) parse(pieces [][]byte, line int, out chan<- *yaml.Node) {
	now := map[string]*part{}
	coming := make(chan chan *part, ahead)
	go func() {
		defer close(coming)
		for _, piece := range pieces {
			done := make(chan *part, 1)
			coming <- done
			var p *part
			if t != nil && now[string(piece)] == nil {
				p = t.parts[string(piece)]
			}
			fresh := p == nil
			if fresh {
				p = &part{}
			}
			if t != nil {
				now[string(piece)] = p
			}
			begin := line
			line += bytes.Count(piece, []byte("\n"))
			if !fresh {
				p.move(begin)
				done <- p
				continue
			}
			go func() {
				p.node = parseOne(piece)
				p.move(begin)
				done <- p
			}()
		}
	}()
	for done := range coming {
		out <- (<-done).node
	}
	if t != nil {
		t.parts = now
	}
}

func (p *part) move(line int) {
	if p.node == nil || p.node.Kind != yaml.MappingNode {
		p.node = nil
		return
	}
	if p.line != line {
		shift(p.node, line-p.line)
		p.line = line
	}
}

// nodesLine finds the line of the key whose map is cut into parts: where the map
// begins, and how far the key is indented. It is -1 where there is no such line,
// or more than one.
func nodesLine(text []byte) (from, indent int) {
	from = -1
	key := []byte(nodesKey + ":")
	for at := 0; ; {
		i := bytes.Index(text[at:], key)
		if i < 0 {
			return from, indent
		}
		i += at
		at = i + len(key)
		begin := bytes.LastIndexByte(text[:i], '\n') + 1
		end := bytes.IndexByte(text[i:], '\n')
		if end < 0 || len(bytes.Trim(text[begin:i], " ")) > 0 || begin == i {
			continue
		}
		end += i
		if rest := bytes.TrimSpace(text[at:end]); len(rest) > 0 && rest[0] != '#' {
			continue
		}
		if from >= 0 || end+1 >= len(text) {
			return -1, 0
		}
		from, indent = end+1, i-begin
	}
}

// shift moves a tree down by some lines.
func shift(n *yaml.Node, by int) {
	n.Line += by
	for _, c := range n.Content {
		shift(c, by)
	}
}

// parseOne parses text of one document; nil where it is none.
func parseOne(text []byte) *yaml.Node {
	d := yaml.NewDecoder(bytes.NewReader(text))
	var doc, second yaml.Node
	if d.Decode(&doc) != nil || len(doc.Content) != 1 || d.Decode(&second) != io.EOF {
		return nil
	}
	return doc.Content[0]
}

// emptyValue finds, in a map in the map at the root, the key in a line whose
// value was taken out; nil where it has a value all the same.
func emptyValue(root *yaml.Node, line int) *yaml.Node {
	for i := 1; i < len(root.Content); i += 2 {
		outer := root.Content[i]
		if outer.Kind != yaml.MappingNode {
			continue
		}
		for k := 0; k+1 < len(outer.Content); k += 2 {
			key, value := outer.Content[k], outer.Content[k+1]
			if key.Line == line && key.Value == nodesKey && value.Kind == yaml.ScalarNode && value.Tag == "!!null" &&
				value.Value == "" && value.Anchor == "" {
				return value
			}
		}
	}
	return nil
}

func indentOf(line []byte) int { return len(line) - len(bytes.TrimLeft(line, " ")) }

// Parts end where the line of a key says so by its hash, so that a change moves
// no other part's ends, and hold some dozens of entries.
const (
	endsAt  = 1 << 5
	longest = 64 << 10 // of a part, in bytes
)

// splitMap cuts the block map that begins at from, below a key that is indented
// by outer, into parts of some entries each, and yields where the map ends.
// There are no parts where it is not as it looks.
func splitMap(text []byte, from, outer int) (pieces [][]byte, end int) {
	indent := -1
	start := from
	at := from
	for at < len(text) {
		next := len(text)
		if n := bytes.IndexByte(text[at:], '\n'); n >= 0 {
			next = at + n + 1
		}
		line := text[at:next]
		depth := indentOf(line)
		if body := line[depth:]; len(body) > 0 && body[0] != '\n' && body[0] != '\r' && body[0] != '#' {
			if indent < 0 {
				indent = depth
			}
			if depth <= outer {
				break
			}
			if depth < indent {
				return nil, 0
			}
			if depth == indent && body[0] != '-' && at > start &&
				(at-start > longest || crc32.ChecksumIEEE(line)%endsAt == 0) {
				pieces = append(pieces, text[start:at])
				start = at
			}
		}
		at = next
	}
	if at > start {
		pieces = append(pieces, text[start:at])
	}
	return pieces, at
}
