package design

import (
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/tosca"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/tui/view"
)

// Actions are what can be done to the template.
func (v *View) Actions() []view.Action {
	if v.template == nil {
		return nil
	}
	return append([]view.Action{
		{Name: "to the plan", Effect: "shows what would be built, in which order, for how long and at what cost; builds nothing", Do: v.toPlan},
		{Name: "next preset", Effect: "takes the next saved set of inputs", Do: v.nextPreset},
		{Name: "inputs as the preset has them", Effect: "forgets what was changed by hand here", Do: func() tea.Cmd {
			v.changed = tosca.Inputs{}
			return v.redraft()
		}},
		{Name: "save the inputs as a preset", Effect: "writes what differs from the template's defaults to presets/NAME.yaml; secrets are never written",
			Ask: "name of the preset", Wrong: templates.NameWrong, Answer: v.savePreset},
		{Name: "copy the template under a new name", Effect: "writes all its files to a new folder of that name and opens the copy here",
			Ask: "name of the copy", Wrong: templates.NameWrong, Answer: v.copyTemplate},
		v.naming(),
	}, v.offering()...)
}

// naming has the design be raised under a name of its own, beside what stands of it.
func (v *View) naming() view.Action {
	return view.Action{Name: "another name", Effect: "plans a deployment of that name, beside what stands of this template; the template's own name takes it back",
		Ask: "name of the deployment", Wrong: func(text string) string {
			if err := deployments.CheckName(text); err != nil {
				return err.Error()
			}
			return ""
		}, Answer: func(name string) tea.Cmd {
			if v.name = name; name == v.template.Name {
				v.name = ""
			}
			return v.redraft()
		}}
}

// savePreset writes the inputs as they are and reads the template again.
func (v *View) savePreset(name string) tea.Cmd {
	t := v.template
	inputs := v.inputs()
	return func() tea.Msg {
		file, err := templates.SavePreset(t, name, inputs)
		if err != nil {
			return view.Failed(err)
		}
		return saved{name, "written: " + file}
	}
}

// copyTemplate copies the template and opens the copy.
func (v *View) copyTemplate(name string) tea.Cmd {
	t := v.template
	return func() tea.Msg {
		dir, err := v.app.CopyTemplate(t, name)
		if err != nil {
			return view.Failed(err)
		}
		return copied{dir}
	}
}

// openCopy shows a template that was copied from now on.
func (v *View) openCopy(dir string) tea.Cmd {
	v.open = func() (*templates.Template, error) { return templates.OpenTemplate(v.ctx, templates.Place{Path: dir}) }
	return tea.Batch(v.load(), view.Cmd(view.Notice{Text: "this is the copy now: " + dir}))
}

// Export writes the elevation that the template would build.
func (v *View) Export() tea.Cmd {
	if v.state == nil {
		return nil
	}
	s, by := v.state.Snapshot(), v.pic.By
	return func() tea.Msg {
		files, err := deployments.ExportPictures(s, by, time.Now(), ".")
		if err != nil {
			return view.Failed(err)
		}
		return view.Notice{Text: "written: " + strings.Join(files, ", ")}
	}
}
