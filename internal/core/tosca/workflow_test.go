package tosca

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const works = header + `topology_template:
  inputs: { loud: { type: boolean, default: true } }
  node_templates:
    a: { type: Compute }
    b: { type: Compute, requirements: [ dependency: a ] }
  groups: { both: { type: tosca.groups.Root, members: [ a, b ] } }
  policies:
    - watch:
        type: tosca.policies.Scaling
        targets: [ both ]
        triggers:
          - hot:
              description: Too hot
              event: heat
              schedule: { start_time: 2026-11-23T08:00:00Z, end_time: 2026-11-24 }
              target_filter: { node: a, capability: host }
              condition: { constraint: [ { state: [ { equal: started } ] } ], period: 60 s, evaluations: 3, method: average }
              action: [ call_operation: { operation: Standard.stop, inputs: { SOFTLY: { get_input: loud } } }, inline: calm ]
  workflows:
    calm:
      description: Quiet again
      inputs: { why: { type: string, default: heat } }
      preconditions:
        - { target: a, condition: [ not: [ { state: [ { valid_values: [ error, initial ] } ] } ] ] }
      steps:
        stop:
          target: b
          target_relationship: dependency
          operation_host: SOURCE
          filter: [ { state: [ { equal: started } ] }, { or: [ { level: [ { greater_than: 3 } ] }, { level: [ { less_than: 1 } ] } ] } ]
          activities: [ call_operation: Configure.add_target, set_state: stopping ]
          on_success: [ rest ]
          on_failure: rest
        rest: { target: both, activities: [ delegate: deploy ] }
`

func TestWorkflowsAndTriggersAreRead(t *testing.T) {
	tmpl, diags := read(works)
	require.Empty(t, diags, diags.Error())
	w := tmpl.Workflow("calm")
	require.NotNil(t, w)
	assert.Equal(t, "Quiet again", w.Description)
	assert.Equal(t, "heat", w.Inputs[0].Default.Literal)
	assert.Equal(t, "not (state one of error, initial)", w.Preconditions[0].Condition.String())
	stop := w.Step("stop")
	assert.Equal(t, []string{"b", "dependency", "SOURCE"}, []string{stop.Target, stop.Relationship, stop.Host})
	assert.Equal(t, "state is started and (level > 3 or level < 1)", stop.Filter.String())
	assert.Equal(t, []string{"rest"}, stop.OnSuccess)
	assert.Equal(t, []string{"rest"}, stop.OnFailure, "one name is a list of one")
	require.Len(t, stop.Activities, 2)
	assert.Equal(t, CallOperation, stop.Activities[0].Kind)
	assert.Equal(t, "stopping", stop.Activities[1].Name)
	assert.Nil(t, w.Step("nothing"))

	hot := tmpl.Policies[0].Triggers[0]
	assert.Equal(t, "heat", hot.Event)
	assert.Equal(t, "a", hot.Target)
	assert.Equal(t, "60 s", hot.Period)
	assert.Equal(t, int64(3), hot.Evaluations)
	assert.Equal(t, "average", hot.Method)
	assert.Equal(t, "state is started", hot.Condition.String())
	require.Len(t, hot.Actions, 2)
	assert.Equal(t, "Standard.stop", hot.Actions[0].Name)
	assert.Equal(t, "SOFTLY", hot.Actions[0].Inputs[0].Name)
	assert.True(t, Clause{}.Empty())
	assert.False(t, hot.Condition.Empty())
}

func TestMistakesInWorkflowsAreFound(t *testing.T) {
	change := func(from, to string) Diagnostics {
		text := works
		for i := 0; i+len(from) <= len(text); i++ {
			if text[i:i+len(from)] == from {
				text = text[:i] + to + text[i+len(from):]
				break
			}
		}
		require.NotEqual(t, works, text, from)
		_, diags := read(text)
		return diags
	}
	for _, c := range []struct {
		from, to string
		code     Code
		says     string
	}{
		{"period: 60 s", "period: 60", CodeValueType, "has no unit"},
		{"event: heat\n", "\n", CodeMissingKey, `needs the keyname "event"`},
		{"end_time: 2026-11-24", "end_time: later", CodeValueType, "end_time is a timestamp"},
		{"node: a, capability: host", "node: c, capability: host", CodeUnknownNode, `"c"`},
		{"inline: calm ]\n  workflows", "inline: clam ]\n  workflows", CodeWorkflow, `no workflow "clam"`},
		{"get_input: loud", "get_input: lout", CodeUnknownInput, "lout"},
		{"operation: Standard.stop", "operation: Standard.halt", CodeUnknownOperation, "Standard.halt"},
		{"target: b\n", "target: c\n", CodeUnknownNode, `"c"`},
		{"target_relationship: dependency", "target_relationship: host", CodeWorkflow, `no relationship "host"`},
		{"on_failure: rest", "on_failure: sleep", CodeWorkflow, `leads to "sleep"`},
		{"on_failure: rest", "on_failure: stop", CodeCycle, "stop → stop"},
		{"set_state: stopping", "inline: calm", CodeCycle, "calm → calm"},
		{"{ greater_than: 3 }", "{ greater: 3 }", CodeUnknownKey, `no constraint "greater"`},
		{"[ { state: [ { equal: started } ] }, { or", "[ text, { or", CodeShape, "a condition is"},
		{"why: { type: string, default: heat }", "why: { type: integer, default: heat }", CodeValueType, "why is an integer"},
	} {
		diags := change(c.from, c.to)
		require.NotEmpty(t, diags, c.to)
		assert.Equal(t, c.code, diags[0].Code, "%s: %s", c.to, diags.Error())
		assert.Contains(t, diags.Error(), c.says)
	}
}
