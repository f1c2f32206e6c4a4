package capture

import (
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// byProgram reports whether programs make what is of a type.
func byProgram(t *tosca.NodeType) bool {
	return slices.ContainsFunc(t.Properties, func(p *tosca.Property) bool { return p.Metadata["from_own"] != "" })
}

// interfaces writes what the operations of a resource carry out: each script into a file of its own.
func (w *writer) interfaces(l *stack.Live, node string, d *tosca.Property) string {
	ops, _ := l.Properties[d.Name].(tosca.Map)
	if w.inline || len(ops) == 0 {
		w.secrets = w.secrets || len(ops) > 0 // there is no place for its files
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "      interfaces:\n        %s:\n          operations:\n", d.Metadata["from_interface"])
	for _, k := range ops.Keys() {
		one, _ := ops[k].(tosca.Map)
		name := tosca.KeyText(k)
		primary := w.file(node, name, one["script"])
		if doc := one["document"]; doc != nil && !tosca.Equal(doc, tosca.Null{}) {
			primary = fmt.Sprintf("{ file: %s, type: Configuration, properties: { adapter: %s } }", w.file(node, name+"-document", doc), primary)
		}
		implementation := "primary: " + primary
		if files, _ := one["files"].(tosca.Map); len(files) > 0 {
			var names []string
			for _, f := range files.Keys() {
				path := tosca.KeyText(f)
				if was, taken := w.files[path]; taken && was != tosca.InClear(files[f]) {
					w.notes = append(w.notes, fmt.Sprintf("the file %s of %s differs from that of another: it is not written", path, node))
				} else {
					w.files[path] = tosca.InClear(files[f])
				}
				names = append(names, key(path))
			}
			implementation += ", dependencies: [ " + strings.Join(names, ", ") + " ]"
		}
		fmt.Fprintf(&b, "            %s:\n              implementation: { %s }\n", key(name), implementation)
		if inputs, _ := one["inputs"].(tosca.Map); len(inputs) > 0 {
			b.WriteString("              inputs:\n")
			for _, in := range inputs.Keys() {
				fmt.Fprintf(&b, "                %s: %s\n", key(tosca.KeyText(in)), w.literal(l, nil, inputs[in]))
			}
		}
	}
	return b.String()
}
