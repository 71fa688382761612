package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/tosca"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
)

type planOptions struct {
	preset, inputs, estate, out, workflow, name, level string

	set   []string
	place place
}

func (s *shared) plan() *cobra.Command {
	var o planOptions
	cmd := &cobra.Command{
		Use:   "plan TEMPLATE",
		Short: "Compile a template into a plan: what, where, in which order, how long, at what cost",
		Long: `Reads a template, places its workloads on an estate and compiles the plan that raises it. The estate is the file
given with --estate, else estate.json beside the template, else the sites that the workspace is connected to.
With --json, or -o, the plan itself is written; equal input gives the same bytes.`,
		Args: o.place.templateArg,
		RunE: func(cmd *cobra.Command, args []string) error { return s.compile(cmd.Context(), args, o) },
	}
	cmd.Flags().StringVar(&o.preset, "preset", "", "inputs of this preset of the template")
	cmd.Flags().StringVar(&o.inputs, "inputs", "", "YAML file with inputs")
	cmd.Flags().StringArrayVar(&o.set, "input", nil, "one input, NAME=VALUE; may be repeated")
	cmd.Flags().StringVar(&o.estate, "estate", "", "JSON file that describes the sites")
	cmd.Flags().StringVar(&o.name, "name", "", "what the deployment is to be called (default: the template's name)")
	cmd.Flags().StringVar(&o.workflow, "workflow", "", "imperative workflow to follow (default: the template's deploy, else the declarative one)")
	cmd.Flags().StringVar(&o.level, "level", "", "service level that it is to have: connected sites that cannot keep it are ruled out")
	o.place.flags(cmd)
	cmd.Flags().StringVarP(&o.out, "output", "o", "", "write the plan to this file")
	return cmd
}

func (s *shared) compile(ctx context.Context, args []string, o planOptions) error {
	t, err := s.template(ctx, &o.place, args)
	if err != nil {
		return err
	}
	inputs, diags, err := o.readInputs()
	if err != nil {
		return err
	}
	if err := noSecrets(t, o.set); err != nil {
		return err
	}
	// Without an estate the design alone is worked out: mistakes in it need no sites to be found.
	own, err := s.rules(ctx)
	if err != nil {
		return err
	}
	wish := templates.DraftRequest{Rules: own, Preset: o.preset, Inputs: inputs, Workflow: o.workflow, Name: o.name}
	if o.name != "" {
		if err := deployments.CheckName(o.name); err != nil {
			return usageError{err}
		}
	}
	d := templates.NewDraft(t, wish, nil)
	if all := append(d.Diagnostics, diags...); all.Errors() > 0 {
		return s.mistakes(t, all)
	}
	if d.Err != nil {
		return usageError{d.Err}
	}
	if d, err = s.placed(ctx, t, wish, o); err != nil {
		return err
	}
	if d.Err != nil {
		return d.Err
	}
	if d.Diagnostics.Errors() > 0 {
		return s.mistakes(t, d.Diagnostics)
	}
	if s.lent != nil { // the files that came with it are gone when it is raised
		if err := s.lent.KeepTemplate(ctx, d); err != nil {
			return err
		}
	}
	return s.writePlan(d.Plan, o.out)
}

// placed works a template out for an estate: of a file, or for the connected sites where it is to have a service level, which these keep or cannot.
func (s *shared) placed(ctx context.Context, t *templates.Template, wish templates.DraftRequest, o planOptions) (*templates.Draft, error) {
	if o.level == "" {
		e, err := s.findEstate(ctx, t, o.estate)
		if err != nil {
			return nil, err
		}
		return templates.NewDraft(t, wish, e), nil
	}
	if o.estate != "" {
		return nil, usageError{errors.New("--level is of the connected sites: leave --estate out")}
	}
	a, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	wish.Choices.Level = o.level
	d, err := a.Drafting(ctx, t, wish)
	if err == nil && d.Deployment != 0 {
		err = fault.Conflictf("%s stands: andamio level give %s %s gives it one", d.Plan.Name, d.Plan.Name, o.level)
	}
	if err == nil && d.Plan == nil && d.Err == nil && d.Diagnostics.Errors() == 0 {
		err = fault.NotFoundf("there are no sites to plan for: start stand-ins with andamio sandbox")
	}
	return d, err
}

// mistakes prints diagnostics that keep a template from being used; the answer is no.
func (s *shared) mistakes(t *templates.Template, diags tosca.Diagnostics) error {
	if !s.json {
		s.printDiagnostics(t, diags)
		return errNo
	}
	return errors.Join(errNo, checkValue.print(s, reply.CheckedOf(t.Name, diags)))
}

func (s *shared) writePlan(p *plan.Plan, file string) error {
	data, err := p.Write()
	if err != nil {
		return err
	}
	if file != "" {
		if err := os.WriteFile(file, data, 0o644); err != nil {
			return err
		}
	}
	if s.json {
		_, err = s.out.Write(data)
		return err
	}
	s.printPlan(p)
	if file != "" {
		fmt.Fprintf(s.out, "\nwritten to %s; andamio run %s builds it\n", file, file)
	}
	return nil
}

// readInputs reads --inputs and --input.
func (o planOptions) readInputs() (tosca.Inputs, tosca.Diagnostics, error) {
	inputs := tosca.Inputs{}
	var diags tosca.Diagnostics
	if o.inputs != "" {
		data, err := os.ReadFile(o.inputs)
		if err != nil {
			return nil, nil, err
		}
		inputs, diags = tosca.ReadInputs(o.inputs, data)
	}
	for _, pair := range o.set {
		name, text, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, nil, usageError{fmt.Errorf("--input takes NAME=VALUE, not %q", pair)}
		}
		v, found := tosca.ParseInput(name, text)
		diags = append(diags, found...)
		if v != nil {
			inputs[name] = v
		}
	}
	return inputs, diags, nil
}

// noSecrets refuses secrets that are given as arguments, where others see them.
func noSecrets(t *templates.Template, pairs []string) error {
	for _, pair := range pairs {
		name, _, _ := strings.Cut(pair, "=")
		for _, in := range t.Inputs {
			if in.Name == name && in.Secret {
				return usageError{fmt.Errorf("%s is a secret and is not given as an argument, which others may see: andamio credentials secret %s keeps it, or give it in the environment as %s",
					name, name, workspace.SecretVariable(name))}
			}
		}
	}
	return nil
}

// findEstate is the estate named, the one beside the template, or that of the connected sites.
func (s *shared) findEstate(ctx context.Context, t *templates.Template, file string) (*estate.Estate, error) {
	if file == "" {
		file = besideTemplate(t)
	}
	if file != "" {
		return readEstate(file)
	}
	return s.connectedEstate(ctx, (*app.App).Estate)
}

// connectedEstate is that of the connected sites, as they are asked.
func (s *shared) connectedEstate(ctx context.Context, asked func(*app.App, context.Context) (*estate.Estate, error)) (*estate.Estate, error) {
	a, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	e, err := asked(a, ctx)
	if err == nil && len(e.Sites)+len(e.Away) == 0 {
		err = fault.NotFoundf("there are no sites to plan for: name an estate with --estate, or start stand-ins with andamio sandbox")
	}
	return e, err
}

// besideTemplate is the estate file in the template's folder, "" if there is none.
func besideTemplate(t *templates.Template) string {
	if t.Folder == "" {
		return ""
	}
	file := filepath.Join(t.Folder, "estate.json")
	if _, err := os.Stat(file); err != nil {
		return ""
	}
	return file
}

// readEstate reads an estate file; its mistakes name the file.
func readEstate(file string) (*estate.Estate, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	e, err := estate.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", file, err))
	}
	return e, nil
}

// printPlan prints a plan for people: the elevation's contents from the top down, then totals.
func (s *shared) printPlan(p *plan.Plan) {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for level := p.Levels; level > 0; level-- {
		for _, r := range p.Resources {
			if r.Level != level || r.PartOf != "" {
				continue
			}
			fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", level, r.Site, r.Kind, printable.Clean(r.Title), printable.Clean(r.Detail), costOf(p, r.Costs()))
		}
	}
	w.Flush()
	for _, n := range slices.Concat(p.Notes, p.Promised.Lines(p.Currency)) {
		fmt.Fprintln(s.out, "note:", printable.Clean(n))
	}
	fmt.Fprintf(s.out, "\n%s: %s on %s at %s, %s\n", p.Name, printable.Count(len(p.Steps), "step"), printable.Count(len(p.Resources), "resource"), printable.Count(len(p.Sites), "site"), printable.Count(p.Levels, "level"))
	fmt.Fprintf(s.out, "expected %s, decided by %s\n", seconds(p.Seconds), strings.Join(p.CriticalPath, " → "))
	fmt.Fprintf(s.out, "costs %.3f %s/h when standing\n", p.CostPerHour, p.Currency)
	if asked := p.SecretsAsked(); len(asked) > 0 {
		fmt.Fprintf(s.out, "needs the secrets %s\n", printable.Clean(strings.Join(asked, ", ")))
	}
}

func costOf(p *plan.Plan, x money.Amount) string {
	if x == 0 {
		return ""
	}
	return fmt.Sprintf("%.3f %s/h", x, p.Currency)
}

func seconds(x float64) string {
	if x < 60 {
		return fmt.Sprintf("%.0fs", x)
	}
	return fmt.Sprintf("%dm%02ds", int(x)/60, int(x)%60)
}
