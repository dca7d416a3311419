package handoffs

import (
	"testing"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// A send whose answer was lost may be repeated after the service was brought to another release.
func TestASendIsKnownAgainByTheNextRelease(t *testing.T) {
	send := Send{Key: "6e9c1f0a-0000-4000-8000-000000000001", Workspace: "6e9c1f0a-0000-4000-8000-000000000002",
		About:   model.About{Note: "fog over the harbour", Tasks: []string{"BRL-1"}, Stage: "rough"},
		Changes: []Change{{Path: "levels/harbour.glb", Base: 3, Content: chunk.Sum([]byte("a")), Size: 1, Fence: 7}}}
	for _, c := range []struct {
		tasks []string
		want  string
	}{
		{[]string{"BRL-1"}, "b31f0f2451e2460c3c8d641806283b74bea5b6b78ce253c610b70053caa85468"},
		{nil, "88e3e7ac0a69ac30ab65efa9227165b2faec0e5f3d5e8155a7ef7aa36b0d068f"},
		{[]string{}, "88e3e7ac0a69ac30ab65efa9227165b2faec0e5f3d5e8155a7ef7aa36b0d068f"},
	} {
		send.Tasks = c.tasks
		if got, err := send.fingerprint(); err != nil || got.String() != c.want {
			t.Errorf("%v: %s, %v", c.tasks, got, err)
		}
	}
}
