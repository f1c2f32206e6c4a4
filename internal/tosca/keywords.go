package tosca

// Support says how far a keyword or function of the standard is carried out.
type Support string

// The degrees of support. A keyword that is NotYet is refused with a finding,
// never accepted and ignored.
const (
	Yes     Support = "yes"
	Checked Support = "partly: read and checked, with a warning that it is not carried out"
	Some    Support = "yes, where the type says who carries it out; otherwise read and checked, with a warning"
	NotYet  Support = "not yet"
)

// Keyword is one keyword of one section of a file.
type Keyword struct {
	Section string
	Name    string
	Support Support
}

// The sections of a file that have keywords of their own.
const (
	secFile         = "file"
	secRepository   = "repository"
	secImport       = "import"
	secService      = "service template"
	secInput        = "parameter definition"
	secOutput       = "output"
	secNode         = "node template"
	secRequirement  = "requirement assignment"
	secRelAssign    = "relationship assignment"
	secRelTemplate  = "relationship template"
	secCapAssign    = "capability assignment"
	secArtifact     = "artifact"
	secInterface    = "interface assignment"
	secOperation    = "operation"
	secImplement    = "implementation"
	secGroup        = "group"
	secPolicy       = "policy"
	secSubstitution = "substitution mapping"
	secData         = "data type"
	secNodeType     = "node type"
	secCapType      = "capability type"
	secRelType      = "relationship type"
	secIfaceType    = "interface type"
	secArtifactType = "artifact type"
	secGroupType    = "group type"
	secPolicyType   = "policy type"
	secFunction     = "function"
	secSignature    = "signature"
	secProperty     = "property definition"
	secSchema       = "schema definition"
	secReqDef       = "requirement definition"
	secCapDef       = "capability definition"
	secIfaceDef     = "interface definition"
)

// Keywords is every keyword of TOSCA 2.0 that the reader knows, section by
// section. The reader works from this table and docs/language.md is held
// against it. Within a section the order is that in which they are formatted.
var Keywords = keywordTable(
	secFile, Yes, "tosca_definitions_version", "profile", "description", "metadata", "dsl_definitions",
	"repositories", "imports",
	"data_types", "artifact_types", "capability_types", "interface_types", "relationship_types", "node_types",
	"group_types", "policy_types", "functions", "service_template",
	secRepository, Yes, "description", "metadata", "url",
	secImport, Yes, "url", "profile", "repository", "namespace", "description", "metadata",
	secService, Yes, "description", "metadata", "inputs", "substitution_mappings", "node_templates",
	"relationship_templates", "groups", "policies", "outputs",
	secService, NotYet, "workflows",
	secInput, Yes, "type", "description", "required", "default", "value", "validation", "key_schema", "entry_schema",
	"metadata", "status",
	secInput, NotYet, "mapping",
	secOutput, Yes, "type", "description", "value", "key_schema", "entry_schema", "validation", "metadata",
	secOutput, NotYet, "required", "default", "status", "mapping",
	secNode, Yes, "type", "description", "metadata", "directives", "copy", "count", "node_filter", "properties",
	"attributes", "capabilities", "requirements", "artifacts",
	secNode, Some, "interfaces",
	secRequirement, Yes, "node", "capability", "relationship", "node_filter", "count", "optional", "directives",
	secRequirement, NotYet, "allocation",
	secRelAssign, Yes, "type", "properties", "attributes",
	secRelAssign, Checked, "interfaces",
	secRelTemplate, Yes, "type", "description", "metadata", "copy", "properties", "attributes",
	secRelTemplate, Checked, "interfaces",
	secCapAssign, Yes, "properties", "attributes",
	secCapAssign, NotYet, "directives",
	secArtifact, Yes, "type", "file", "repository", "description", "metadata", "artifact_version", "checksum",
	"checksum_algorithm", "properties",
	secInterface, Some, "inputs", "operations",
	secInterface, NotYet, "notifications",
	secOperation, Some, "description", "metadata", "implementation", "inputs", "outputs",
	secImplement, Some, "primary", "dependencies",
	secImplement, NotYet, "timeout", "invoke",
	secGroup, Yes, "type", "description", "metadata", "members", "properties", "attributes",
	secPolicy, Yes, "type", "description", "metadata", "targets", "properties",
	secPolicy, NotYet, "triggers",
	secSubstitution, Yes, "node_type", "substitution_filter", "properties", "attributes", "capabilities",
	"requirements",
	secSubstitution, NotYet, "interfaces",
	secData, Yes, "derived_from", "version", "description", "metadata", "validation", "properties", "key_schema",
	"entry_schema", "data_type", "units", "canonical_unit", "prefixes",
	secNodeType, Yes, "derived_from", "version", "description", "metadata", "properties", "attributes",
	"capabilities", "requirements", "artifacts",
	secNodeType, Some, "interfaces",
	secCapType, Yes, "derived_from", "version", "description", "metadata", "properties", "attributes",
	"valid_source_node_types", "valid_relationship_types",
	secRelType, Yes, "derived_from", "version", "description", "metadata", "properties", "attributes",
	"valid_capability_types", "valid_target_node_types", "valid_source_node_types",
	secRelType, Checked, "interfaces",
	secIfaceType, Yes, "derived_from", "version", "description", "metadata", "inputs", "operations",
	secIfaceType, NotYet, "notifications",
	secArtifactType, Yes, "derived_from", "version", "description", "metadata", "mime_type", "file_ext", "properties",
	secGroupType, Yes, "derived_from", "version", "description", "metadata", "properties", "attributes", "members",
	secPolicyType, Yes, "derived_from", "version", "description", "metadata", "properties", "targets",
	secPolicyType, NotYet, "triggers",
	secFunction, Checked, "signatures", "description", "metadata",
	secSignature, Checked, "arguments", "optional_arguments", "variadic", "result", "implementation", "description",
	"metadata",
	secProperty, Yes, "type", "description", "required", "default", "value", "validation", "key_schema",
	"entry_schema", "metadata", "status",
	secSchema, Yes, "type", "description", "validation", "key_schema", "entry_schema",
	secReqDef, Yes, "description", "metadata", "capability", "node", "relationship", "node_filter", "count_range",
	secCapDef, Yes, "type", "description", "metadata", "properties", "attributes", "valid_source_node_types",
	"valid_relationship_types",
	secIfaceDef, Yes, "type", "description", "metadata", "inputs", "operations",
	secIfaceDef, NotYet, "notifications",
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
