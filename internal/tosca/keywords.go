package tosca

// Support says how far a keyword or function of the standard is carried out.
type Support string

// The degrees of support. A keyword that is NotYet is refused with a finding,
// never accepted and ignored.
const (
	Yes         Support = "yes"
	ProfileOnly Support = "partly: in the shipped profile only"
	NotYet      Support = "not yet"
)

// Keyword is one keyword of one section of a file.
type Keyword struct {
	Section string
	Name    string
	Support Support
}

// The sections of a file that have keywords of their own.
const (
	secFile        = "file"
	secImport      = "import"
	secService     = "service template"
	secInput       = "parameter definition"
	secOutput      = "output"
	secNode        = "node template"
	secRequirement = "requirement assignment"
	secPolicy      = "policy"
	secData        = "data type"
	secNodeType    = "node type"
	secPolicyType  = "policy type"
	secOtherType   = "capability or relationship type"
	secProperty    = "property definition"
	secSchema      = "schema definition"
	secReqDef      = "requirement definition"
	secCapDef      = "capability definition"
)

// Keywords is every keyword of TOSCA 2.0 that the reader knows, section by
// section. The reader works from this table and docs/language.md is held
// against it.
var Keywords = keywordTable(
	secFile, Yes, "tosca_definitions_version", "metadata", "description", "dsl_definitions", "data_types", "imports", "service_template",
	secFile, ProfileOnly, "profile", "node_types", "policy_types", "capability_types", "relationship_types",
	secFile, NotYet, "repositories", "artifact_types", "interface_types", "group_types", "functions",
	secImport, Yes, "profile",
	secImport, NotYet, "url", "repository", "namespace", "description", "metadata",
	secService, Yes, "description", "metadata", "inputs", "outputs", "node_templates", "policies",
	secService, NotYet, "relationship_templates", "groups", "workflows", "substitution_mappings",
	secInput, Yes, "type", "description", "required", "default", "validation", "key_schema", "entry_schema", "metadata", "status",
	secInput, NotYet, "value", "mapping",
	secOutput, Yes, "type", "description", "value", "key_schema", "entry_schema", "validation", "metadata",
	secOutput, NotYet, "required", "default", "status", "mapping",
	secNode, Yes, "type", "description", "metadata", "count", "properties", "requirements",
	secNode, NotYet, "directives", "copy", "attributes", "capabilities", "interfaces", "artifacts", "node_filter",
	secRequirement, Yes, "node",
	secRequirement, NotYet, "capability", "relationship", "node_filter", "count", "optional", "directives", "allocation",
	secPolicy, Yes, "type", "description", "metadata", "targets", "properties",
	secPolicy, NotYet, "triggers",
	secData, Yes, "derived_from", "description", "metadata", "version", "validation", "properties", "key_schema", "entry_schema", "data_type", "units", "canonical_unit", "prefixes",
	secNodeType, Yes, "derived_from", "description", "metadata", "version", "properties", "attributes", "capabilities", "requirements",
	secNodeType, NotYet, "interfaces", "artifacts",
	secPolicyType, Yes, "derived_from", "description", "metadata", "version", "properties", "targets",
	secPolicyType, NotYet, "triggers",
	secOtherType, Yes, "derived_from", "description", "metadata", "version", "valid_source_node_types", "valid_capability_types", "valid_target_node_types",
	secOtherType, NotYet, "properties", "attributes", "interfaces", "valid_relationship_types",
	secProperty, Yes, "type", "description", "required", "default", "value", "validation", "key_schema", "entry_schema", "metadata", "status",
	secSchema, Yes, "type", "description", "validation", "key_schema", "entry_schema",
	secReqDef, Yes, "description", "metadata", "capability", "node", "relationship", "count_range",
	secReqDef, NotYet, "node_filter",
	secCapDef, Yes, "type", "description", "metadata",
	secCapDef, NotYet, "properties", "attributes", "valid_source_node_types", "valid_relationship_types",
)

// keywordTable reads runs of section, support and names.
func keywordTable(runs ...any) []Keyword {
	var table []Keyword
	var k Keyword
	for i := 0; i < len(runs); i++ {
		switch x := runs[i].(type) {
		case Support:
			k.Support = x
		case string:
			if i+1 < len(runs) {
				if _, isSection := runs[i+1].(Support); isSection {
					k.Section = x
					continue
				}
			}
			k.Name = x
			table = append(table, k)
		}
	}
	return table
}

// keywordsBySection is the table, ready for the reader.
var keywordsBySection = func() map[string]map[string]Support {
	by := map[string]map[string]Support{}
	for _, k := range Keywords {
		if by[k.Section] == nil {
			by[k.Section] = map[string]Support{}
		}
		by[k.Section][k.Name] = k.Support
	}
	return by
}()
