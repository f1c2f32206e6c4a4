package cloud_test

import (
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/profile"
	"brickrow/internal/tosca"
)

func TestLive(t *testing.T) {
	r := cloud.Resource{ID: "q", Type: "Queue", Properties: map[string]any{"keep": "4 d", "odd": "x"},
		Attributes: map[string]any{"url": "u"}, Tags: map[string]string{"stack": "s", "node": "queue", "desk": "snow"}}
	l := r.Live(profile.Read().Library)
	if l.Node != "queue" || !tosca.Equal(l.Properties["keep"], tosca.Scalar{Text: "4 d", Amount: 4 * 86400}) ||
		l.Properties["odd"] != tosca.String("x") {
		t.Errorf("%+v", l)
	}
	if tosca.Show(l.Properties["tags"]) != "{desk: snow}" || l.Attributes["id"] != tosca.String("q") {
		t.Errorf("tags %v, attributes %v", l.Properties["tags"], l.Attributes)
	}
}
