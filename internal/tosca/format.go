package tosca

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// width is how long a line may be before what stands in braces is written on
// lines of its own.
const width = 120

// Format writes a template in its one form: keywords in the order of the
// standard, two spaces a level, no more quotes than needed. Comments, anchors,
// blank lines and the order of names stay. It changes nothing of what the
// template means; where it cannot be sure of that, it fails.
func Format(name string, text []byte) ([]byte, Findings) {
	return format(name, text, secFile)
}

// FormatPlain does the same for a file that is no template: the order of its
// keys stays.
func FormatPlain(name string, text []byte) ([]byte, Findings) {
	return format(name, text, "")
}

func format(name string, text []byte, section string) ([]byte, Findings) {
	var findings Findings
	root := ParseYAML(name, text, &findings)
	if root == nil || findings.HasErrors() {
		return nil, findings
	}
	r := &reader{file: name, shared: &shared{}, budget: 10_000 + 8*len(text)}
	r.doubled(root)
	if findings = append(findings, r.findings...); findings.HasErrors() {
		return nil, findings
	}
	doc, err := parseDocument(text)
	out := text
	for try := 0; err == nil; try++ { // comments may move once before they stay
		var again *yaml.Node
		next := []byte{}
		if again, err = parseDocument(out); err == nil {
			next = emitDocument(again, out, section)
		}
		if bytes.Equal(next, out) {
			break
		}
		if out = next; try > 4 {
			err = errors.New("its comments find no place")
		}
	}
	if err == nil {
		var again *yaml.Node
		if again, err = parseDocument(out); err == nil {
			err = sameDocument(doc, again)
		}
	}
	if err != nil {
		findings.Errorf(Pos{name, 1, 1}, "cannot-format", "format it yourself",
			"this file cannot be formatted without changing it: %v", err)
		return nil, findings
	}
	return out, findings
}

func emitDocument(doc *yaml.Node, source []byte, section string) []byte {
	e := &emitter{source: strings.Split(string(source), "\n")}
	e.document(doc, section)
	return []byte(e.out.String())
}

// doubled reports keys that stand twice anywhere.
func (r *reader) doubled(n *yaml.Node) {
	if n.Kind == yaml.MappingNode {
		r.pairs(n)
	}
	for _, c := range n.Content {
		r.doubled(c)
	}
}

func parseDocument(text []byte) (*yaml.Node, error) {
	var doc yaml.Node
	err := yaml.Unmarshal(text, &doc)
	if err == nil && (len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode) {
		err = errors.New("it is no map of keywords")
	}
	return &doc, err
}

// Emit writes a tree that was not read from a file.
func Emit(root *yaml.Node) []byte {
	e := &emitter{}
	if root.Kind == yaml.ScalarNode || root.Style&yaml.FlowStyle != 0 || len(root.Content) == 0 {
		return []byte(e.inline(root, "") + "\n")
	}
	e.block(root, 0, "")
	return []byte(e.out.String())
}

// Inline lets a tree be written in braces, on one line.
func Inline(n *yaml.Node) *yaml.Node {
	n.Style |= yaml.FlowStyle
	for _, c := range n.Content {
		if c.Kind != yaml.ScalarNode {
			Inline(c)
		}
	}
	return n
}

// emitter writes YAML.
type emitter struct {
	out    strings.Builder
	source []string
}

func (e *emitter) document(doc *yaml.Node, section string) {
	e.comment(doc.HeadComment, 0)
	if doc.HeadComment != "" {
		e.out.WriteByte('\n')
	}
	root := doc.Content[0]
	e.comment(root.HeadComment, 0)
	e.block(root, 0, section)
	e.comment(root.FootComment, 0)
	if doc.FootComment != "" {
		level, blank := e.footPlace(doc.FootComment)
		if blank {
			e.out.WriteByte('\n')
		}
		e.comment(doc.FootComment, level)
	}
}

// footPlace is how deep the comment at the end of a file stands in the source,
// and whether a blank line comes before it.
func (e *emitter) footPlace(text string) (level int, blank bool) {
	first, _, _ := strings.Cut(text, "\n")
	for i := len(e.source) - 1; i >= 0; i-- {
		if strings.TrimSpace(e.source[i]) == strings.TrimSpace(first) {
			return (len(e.source[i]) - len(strings.TrimLeft(e.source[i], " "))) / 2,
				i > 0 && strings.TrimSpace(e.source[i-1]) == ""
		}
	}
	return 0, true
}

func indent(n int) string { return strings.Repeat("  ", n) }

func (e *emitter) comment(text string, level int) {
	if text == "" {
		return
	}
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		if line = strings.TrimSpace(line); line != "" {
			line = indent(level) + line
		}
		e.out.WriteString(line + "\n")
	}
}

// blankBefore keeps one blank line where the source has one before a node and
// its comment.
func (e *emitter) blankBefore(n *yaml.Node, first bool) {
	if first || n.Line < 2 || e.source == nil {
		return
	}
	line := n.Line - 2 // the one above, counted from 0
	if n.HeadComment != "" {
		line -= strings.Count(n.HeadComment, "\n") + 1
	}
	if line >= 0 && line < len(e.source) && strings.TrimSpace(e.source[line]) == "" {
		if s := e.out.String(); !strings.HasSuffix(s, "\n\n") {
			e.out.WriteByte('\n')
		}
	}
}

// block writes a map or a list on lines of its own.
func (e *emitter) block(n *yaml.Node, level int, section string) {
	if n.Kind == yaml.SequenceNode {
		for i, c := range n.Content {
			e.blankBefore(c, i == 0)
			e.comment(c.HeadComment, level)
			e.out.WriteString(indent(level) + "-")
			e.item(c, level, section)
			e.comment(c.FootComment, level)
		}
		return
	}
	for i, p := range e.ordered(n, section) {
		e.pair(p[0], p[1], level, section, i == 0)
	}
}

// ordered lists the entries of a map: keywords in the order of their table.
func (e *emitter) ordered(n *yaml.Node, section string) [][2]*yaml.Node {
	var out [][2]*yaml.Node
	for i := 0; i+1 < len(n.Content); i += 2 {
		out = append(out, [2]*yaml.Node{n.Content[i], n.Content[i+1]})
	}
	if order := keywordOrder[section]; order != nil {
		rank := func(p [2]*yaml.Node) int {
			if r, ok := order[p[0].Value]; ok {
				return r
			}
			return len(order)
		}
		slices.SortStableFunc(out, func(a, b [2]*yaml.Node) int { return cmp.Compare(rank(a), rank(b)) })
	}
	return out
}

func (e *emitter) pair(key, value *yaml.Node, level int, section string, first bool) {
	e.blankBefore(key, first)
	e.comment(key.HeadComment, level)
	e.out.WriteString(indent(level) + e.anchor(key) + e.scalar(key, level) + ":")
	e.value(key, value, level, inside(section, key.Value))
	e.comment(key.FootComment, level)
}

// value writes what stands after a key's colon.
func (e *emitter) value(key, value *yaml.Node, level int, section string) {
	note := cmp.Or(value.LineComment, key.LineComment)
	if note != "" {
		note = " " + note
	}
	switch {
	case value.Kind == yaml.AliasNode:
		e.out.WriteString(" *" + value.Value + note + "\n")
	case value.Kind == yaml.ScalarNode:
		s := e.anchor(value) + e.tag(value) + e.scalar(value, level)
		if value.ShortTag() == "!!null" && value.Value == "" {
			s = strings.TrimSuffix(s, " ")
		}
		if s != "" {
			s = " " + s
		}
		if value.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 && note != "" {
			head, rest, _ := strings.Cut(s, "\n")
			s = head + note + "\n" + rest
			note = ""
		}
		e.out.WriteString(s + note + "\n")
	default:
		if s, ok := e.flow(value, section, 2*level+len(key.Value)+2+len(note)); ok {
			e.out.WriteString(" " + e.anchor(value) + s + note + "\n")
			return
		}
		e.out.WriteString(strings.TrimRight(" "+e.anchor(value), " ") + note + "\n")
		e.comment(value.HeadComment, level+1)
		e.block(value, level+1, section)
		e.comment(value.FootComment, level+1)
	}
}

// item writes what stands after the dash of a list.
func (e *emitter) item(c *yaml.Node, level int, section string) {
	note := ""
	if c.LineComment != "" {
		note = " " + c.LineComment
	}
	switch c.Kind {
	case yaml.AliasNode:
		e.out.WriteString(" *" + c.Value + note + "\n")
		return
	case yaml.ScalarNode:
		e.out.WriteString(strings.TrimRight(" "+e.anchor(c)+e.tag(c)+e.scalar(c, level), " ") + note + "\n")
		return
	}
	if s, ok := e.flow(c, section, 2*level+2+len(note)); ok {
		e.out.WriteString(" " + e.anchor(c) + s + note + "\n")
		return
	}
	if c.Kind == yaml.SequenceNode || c.Anchor != "" || note != "" {
		e.out.WriteString(strings.TrimRight(" "+e.anchor(c), " ") + note + "\n")
		e.block(c, level+1, section)
		return
	}
	for i, p := range e.ordered(c, section) { // the first key stands beside the dash
		if i > 0 || p[0].HeadComment != "" {
			if i == 0 {
				e.out.WriteByte('\n')
			}
			e.pair(p[0], p[1], level+1, section, i == 0)
			continue
		}
		e.out.WriteString(" " + e.anchor(p[0]) + e.scalar(p[0], level+1) + ":")
		e.value(p[0], p[1], level+1, inside(section, p[0].Value))
		e.comment(p[0].FootComment, level+1)
	}
}

// flow writes a map or a list in braces where the source has it so, it has no
// comments inside, and it fits on the line.
func (e *emitter) flow(n *yaml.Node, section string, before int) (string, bool) {
	if len(n.Content) > 0 && n.Style&yaml.FlowStyle == 0 || hasComments(n) {
		return "", false
	}
	s := e.inline(n, section)
	return s, len([]rune(s))+before <= width && !strings.Contains(s, "\n")
}

func hasComments(n *yaml.Node) bool {
	for _, c := range n.Content {
		if c.HeadComment+c.LineComment+c.FootComment != "" || hasComments(c) {
			return true
		}
	}
	return false
}

func (e *emitter) inline(n *yaml.Node, section string) string {
	switch n.Kind {
	case yaml.AliasNode:
		return "*" + n.Value
	case yaml.ScalarNode:
		return e.tag(n) + e.flowScalar(n)
	}
	var parts []string
	if n.Kind == yaml.SequenceNode {
		for _, c := range n.Content {
			parts = append(parts, e.anchor(c)+e.inline(c, section))
		}
		return wrap("[", parts, "]")
	}
	for _, p := range e.ordered(n, section) {
		key, value := e.flowScalar(p[0]), e.anchor(p[1])+e.inline(p[1], inside(section, p[0].Value))
		if p[0].Kind == yaml.AliasNode {
			key = "*" + p[0].Value + " "
		}
		parts = append(parts, strings.TrimRight(key+": "+value, " "))
	}
	return wrap("{", parts, "}")
}

func wrap(open string, parts []string, end string) string {
	if len(parts) == 0 {
		return open + end
	}
	return open + " " + strings.Join(parts, ", ") + " " + end
}

func (e *emitter) anchor(n *yaml.Node) string {
	if n.Anchor == "" {
		return ""
	}
	return "&" + n.Anchor + " "
}

func (e *emitter) tag(n *yaml.Node) string {
	if n.Style&yaml.TaggedStyle == 0 {
		return ""
	}
	return n.ShortTag() + " "
}

// flowScalar is a scalar inside braces, where commas and brackets end it.
func (e *emitter) flowScalar(n *yaml.Node) string {
	s := e.scalar(n, 0)
	if n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		return quote(n.Value)
	}
	if s == n.Value && n.ShortTag() == "!!str" && strings.ContainsAny(s, ",[]{}") {
		return quote(n.Value)
	}
	return s
}

// scalar is a scalar as it is written at a level of blocks.
func (e *emitter) scalar(n *yaml.Node, level int) string {
	switch {
	case n.Kind == yaml.AliasNode:
		return "*" + n.Value + " "
	case n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 && strings.Trim(n.Value, "\n ") != "":
		return lines(n, level)
	case n.ShortTag() != "!!str":
		return n.Value
	case plain(n.Value):
		return n.Value
	case n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) == 0 &&
		n.Line > 0 && !strings.ContainsAny(n.Value, "\n\t"):
		return n.Value // it stood there like this
	}
	return quote(n.Value)
}

// lines writes a text of several lines, or a folded one.
func lines(n *yaml.Node, level int) string {
	body, mark := strings.TrimRight(n.Value, "\n"), "|"
	fold := n.Style&yaml.FoldedStyle != 0 && !strings.ContainsAny(body, "\n\t") && !strings.Contains(body, "  ") &&
		!strings.HasPrefix(body, " ")
	if fold {
		mark = ">"
	}
	first, _, _ := strings.Cut(strings.TrimLeft(body, "\n"), "\n")
	if strings.HasPrefix(first, " ") || strings.HasPrefix(body, "\n") {
		mark += "2"
	}
	switch ends := len(n.Value) - len(body); ends {
	case 0:
		mark += "-"
	case 1:
	default:
		mark += "+"
	}
	var out strings.Builder
	out.WriteString(mark)
	pad := indent(level + 1)
	if !fold {
		for line := range strings.SplitSeq(body, "\n") {
			if line != "" {
				line = pad + line
			}
			out.WriteString("\n" + line)
		}
		out.WriteString(strings.Repeat("\n", max(0, len(n.Value)-len(body)-1)))
		return out.String()
	}
	used := width
	for _, word := range strings.Split(body, " ") {
		if used+1+len(word) > 80 {
			out.WriteString("\n" + pad + word)
			used = len(pad) + len(word)
			continue
		}
		out.WriteString(" " + word)
		used += 1 + len(word)
	}
	return out.String()
}

// plain reports whether a text can stand without quotes anywhere.
func plain(s string) bool {
	if s == "" || strings.ContainsAny(s, "\n\t\"'`#:,[]{}&*!|>%@\\") || s != strings.TrimSpace(s) ||
		strings.ContainsAny(s[:1], "-?=<.+~") ||
		s[0] <= '9' && !readsAsText(s) {
		return strings.Contains(s, ":") && plainWithColon(s)
	}
	switch strings.ToLower(s) {
	case "y", "n", "yes", "no", "on", "off", "true", "false", "null":
		return false
	}
	for _, r := range s {
		if r < ' ' || r == 0x7f || r == 0x85 || r == 0xfeff || r >= 0x2028 && r <= 0x2029 {
			return false
		}
	}
	return true
}

// readsAsText reports whether YAML takes a text for what it is.
func readsAsText(s string) bool {
	var v any
	_, isText := v.(string)
	if err := yaml.Unmarshal([]byte(s), &v); err == nil {
		_, isText = v.(string)
	}
	return isText
}

// plainWithColon allows what is like brickrow.cloud:1 or bucket:read.
func plainWithColon(s string) bool {
	before, after, _ := strings.Cut(s, ":")
	return after != "" && plain(before) && strings.Trim(after, simple+".") == ""
}

// quote puts a text in quotes: double ones, or single ones where that saves
// escaping.
func quote(s string) string {
	if strings.ContainsAny(s, `\"`) && !strings.ContainsAny(s, "'\n\t\r") &&
		strconv.CanBackquote(strings.ReplaceAll(s, "`", "")) {
		return "'" + s + "'"
	}
	var out strings.Builder
	out.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			out.WriteString(`\` + string(r))
		case r == '\n':
			out.WriteString(`\n`)
		case r == '\t':
			out.WriteString(`\t`)
		case r < ' ' || r == 0x7f || r == 0x85 || r == 0xa0 || r == 0xfeff || r >= 0x2028 && r <= 0x2029:
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteRune(r)
		}
	}
	out.WriteByte('"')
	return out.String()
}

// keywordOrder ranks the keywords of each section.
var keywordOrder = func() map[string]map[string]int {
	by := map[string]map[string]int{}
	for _, k := range Keywords {
		if by[k.Section] == nil {
			by[k.Section] = map[string]int{}
		}
		by[k.Section][k.Name] = len(by[k.Section])
	}
	return by
}()

// namesOf is a section that is a map, or a list of maps, of names, each with
// the keywords of another section.
const namesOf = "names of "

// inside is the section of what stands under a key.
func inside(section, key string) string {
	if s, ok := strings.CutPrefix(section, namesOf); ok {
		return s
	}
	return sections[[2]string{section, key}]
}

// sections tells which keywords stand under a keyword.
var sections = func() map[[2]string]string {
	m := map[[2]string]string{
		{secFile, "service_template"}: secService, {secFile, "imports"}: secImport,
		{secService, "substitution_mappings"}: secSubstitution,
		{secRequirement, "relationship"}:      secRelAssign, {secOperation, "implementation"}: secImplement,
	}
	names := func(in, key, what string) { m[[2]string{in, key}] = namesOf + what }
	for key, what := range map[string]string{"repositories": secRepository, "data_types": secData,
		"artifact_types": secArtifactType, "capability_types": secCapType, "interface_types": secIfaceType,
		"relationship_types": secRelType, "node_types": secNodeType, "group_types": secGroupType,
		"policy_types": secPolicyType, "functions": secFunction} {
		names(secFile, key, what)
	}
	for key, what := range map[string]string{"inputs": secInput, "node_templates": secNode,
		"relationship_templates": secRelTemplate, "groups": secGroup, "policies": secPolicy, "outputs": secOutput} {
		names(secService, key, what)
	}
	names(secNode, "capabilities", secCapAssign)
	names(secNode, "requirements", secRequirement)
	names(secNode, "artifacts", secArtifact)
	for _, s := range []string{secNode, secRelTemplate, secRelAssign} {
		names(s, "interfaces", secInterface)
	}
	names(secInterface, "operations", secOperation)
	for _, s := range []string{secData, secNodeType, secCapType, secRelType, secArtifactType, secGroupType,
		secPolicyType, secCapDef} {
		names(s, "properties", secProperty)
		names(s, "attributes", secProperty)
	}
	names(secNodeType, "capabilities", secCapDef)
	names(secNodeType, "requirements", secReqDef)
	names(secNodeType, "artifacts", secArtifact)
	for _, s := range []string{secNodeType, secRelType} {
		names(s, "interfaces", secIfaceDef)
	}
	for _, s := range []string{secIfaceType, secIfaceDef} {
		names(s, "inputs", secProperty)
		names(s, "operations", secOperation)
	}
	for _, s := range []string{secInput, secOutput, secProperty, secSchema, secData} {
		m[[2]string{s, "entry_schema"}], m[[2]string{s, "key_schema"}] = secSchema, secSchema
	}
	return m
}()

// sameDocument reports how two documents differ: in what they mean, or in a
// comment.
func sameDocument(a, b *yaml.Node) error {
	if err := sameNode(a, b); err != nil {
		return err
	}
	was, is := comments(a, nil), comments(b, nil)
	slices.Sort(was)
	slices.Sort(is)
	if !slices.Equal(was, is) {
		return errors.New("a comment would be lost")
	}
	return nil
}

func comments(n *yaml.Node, list []string) []string {
	for _, c := range []string{n.HeadComment, n.LineComment, n.FootComment} {
		for line := range strings.SplitSeq(c, "\n") {
			if line = strings.TrimSpace(line); line != "" {
				list = append(list, line)
			}
		}
	}
	for _, c := range n.Content {
		list = comments(c, list)
	}
	return list
}

func sameNode(a, b *yaml.Node) error {
	if a.Kind != b.Kind || a.Value != b.Value || a.ShortTag() != b.ShortTag() || a.Anchor != b.Anchor ||
		len(a.Content) != len(b.Content) {
		return fmt.Errorf("line %d would mean something else", a.Line)
	}
	if a.Kind != yaml.MappingNode {
		for i := range a.Content {
			if err := sameNode(a.Content[i], b.Content[i]); err != nil {
				return err
			}
		}
		return nil
	}
	for i := 0; i+1 < len(a.Content); i += 2 {
		key := a.Content[i]
		k := 0
		for ; k+1 < len(b.Content) && b.Content[k].Value != key.Value; k += 2 {
		}
		if k+1 >= len(b.Content) {
			return fmt.Errorf("'%s' of line %d would be lost", key.Value, key.Line)
		}
		if err := sameNode(key, b.Content[k]); err != nil {
			return err
		}
		if err := sameNode(a.Content[i+1], b.Content[k+1]); err != nil {
			return err
		}
	}
	return nil
}
