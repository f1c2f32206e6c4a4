package yard

import (
	_ "embed" // the document
	"encoding/json"
	"fmt"
	"sync"

	"go.yaml.in/yaml/v4"
)

//go:embed openapi.yaml
var openAPIText []byte

// openAPI is the document that describes the yard's interface (OpenAPI 3.0), as JSON. Tests
// hold all that the yard is asked, and answers, against it.
var openAPI = sync.OnceValue(func() []byte {
	var tree any
	if err := yaml.Unmarshal(openAPIText, &tree); err != nil {
		panic(fmt.Sprintf("the description of the yard's interface cannot be read: %v", err))
	}
	text, err := json.MarshalIndent(tree, "", "  ")
	if err != nil {
		panic(fmt.Sprintf("the description of the yard's interface cannot be written: %v", err))
	}
	return text
})
