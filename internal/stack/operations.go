package stack

import (
	"brickrow/internal/tosca"
)

// Hosting is the requirement by which something runs on a server: it goes with the server, should
// it not have gone before.
const Hosting = "host"

// operations is what the operations of an interface carry out, as an expression: by their names
// the text of each script, its inputs, and the files beside it. It is nil where there are none.
func operations(res *Resource, face string) *tosca.Expr {
	list := tosca.Operations(res.template, res.Own, face)
	if len(list) == 0 {
		return nil
	}
	out := mapAt(list[0].Pos)
	for _, o := range list {
		program := o.Primary
		one := mapAt(o.Pos)
		if o.Primary.Adapter != nil {
			program = o.Primary.Adapter
			put(one, "document", fileText(o.Primary))
		}
		put(one, "script", fileText(program))
		inputs := mapAt(o.Pos)
		for _, in := range o.Given {
			put(inputs, in.Name, in.Value)
		}
		if len(inputs.Keys) > 0 {
			put(one, "inputs", inputs)
		}
		files := mapAt(o.Pos)
		for _, a := range o.Dependencies {
			put(files, a.File, fileText(a))
		}
		if len(files.Keys) > 0 {
			put(one, "files", files)
		}
		put(out, o.Name, one)
	}
	return out
}

func mapAt(at tosca.Pos) *tosca.Expr { return &tosca.Expr{Pos: at, Kind: tosca.MapExpr} }

func put(m *tosca.Expr, key string, x *tosca.Expr) {
	m.Keys = append(m.Keys, tosca.Key{Pos: x.Pos, Name: key})
	m.Args = append(m.Args, x)
}

// fileText is the text of a file, at the place that names it.
func fileText(a *tosca.Artifact) *tosca.Expr {
	v := a.Text("text")
	return &tosca.Expr{Pos: a.Pos, Value: v, Raw: tosca.Show(v)}
}

// outputOf is where an attribute of a node comes from that an output of an operation goes to;
// nil where none does.
func outputOf(res *Resource, attribute string) *tosca.Expr {
	if res.Type != nil && res.Type.Attribute(OwnAttributes) != nil { // as its program tells
		text := func(s string) *tosca.Expr { return &tosca.Expr{Pos: res.Pos, Value: tosca.String(s), Raw: s} }
		return &tosca.Expr{Pos: res.Pos, Kind: tosca.CallExpr, Name: "get_attribute", Args: []*tosca.Expr{text("SELF"), text(OwnAttributes), text(attribute)}}
	}
	for _, p := range res.Own.Properties {
		face := p.Metadata["from_interface"]
		if face == "" {
			continue
		}
		for _, o := range tosca.Operations(res.template, res.Own, face) {
			for _, out := range o.Outputs {
				if x := out.Value; len(x.Args) != 2 || x.Args[1].Kind != tosca.LiteralExpr || tosca.Show(x.Args[1].Value) != attribute {
					continue
				}
				text := func(s string) *tosca.Expr { return &tosca.Expr{Pos: out.Pos, Value: tosca.String(s), Raw: s} }
				return &tosca.Expr{Pos: out.Pos, Kind: tosca.CallExpr, Name: "get_attribute", Args: []*tosca.Expr{text("SELF"), text("results"), text(out.Name)}}
			}
		}
	}
	return nil
}
