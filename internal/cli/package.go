package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/migrate"
	"andamio/internal/core/printable"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
)

func (s *shared) packages() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "package",
		Short: "Pack workloads into archives of the Open Virtualization Format, and unpack them",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(s.packageExport(), s.packageImport(), s.packageLift(), s.packageDrop())
	return cmd
}

func (s *shared) packageExport() *cobra.Command {
	var running bool
	cmd := &cobra.Command{
		Use:   "export DEPLOYMENT INSTANCE FILE.ova",
		Short: "Pack an instance with its disks",
		Long: `Writes an archive (.ova, DMTF OVF 1.1): a descriptor, a manifest of SHA-256 digests, and the disks as qcow2 images.
Secrets are left out; which must be given again is listed, and noted in the descriptor. The instance must be off, unless
--running says that it is packed as a machine whose power failed.`,
		Args: cobra.ExactArgs(3),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			out, err := a.ExportPackage(ctx, d.ID, rest[0], rest[1], running)
			if err != nil {
				return err
			}
			if s.json {
				return packageValue.print(s, out)
			}
			fmt.Fprintf(s.out, "%s: %s\n", out.File, migrate.Bytes(float64(out.Bytes)))
			if len(out.Secrets) > 0 {
				fmt.Fprintf(s.out, "secrets were left out and must be given again: %s\n", strings.Join(out.Secrets, ", "))
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&running, "running", false, "pack it although it is on")
	return cmd
}

func (s *shared) packageImport() *cobra.Command {
	var o running
	var w moves.ImportRequest
	cmd := &cobra.Command{
		Use:   "import FILE.ova",
		Short: "Build at a site what was packed",
		Long: `Checks a package against its manifest, and builds the machine at a site as a deployment of its own: its disks are written
before it is switched on. Packages that are damaged, cut off, lead outside themselves or declare entities are refused.`,
		Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			w.File = args[0]
			if s.visit != nil { // it is read by a run that goes on without whoever sent it
				kept, err := a.KeepPackage(ctx, w.File)
				if err != nil {
					return err
				}
				w.File = kept
			}
			order, arc, err := a.ImportPackage(ctx, w)
			if err != nil {
				if s.visit != nil {
					err = errors.Join(err, os.Remove(w.File))
				}
				return err
			}
			if !s.json {
				fmt.Fprintf(s.out, "%s: %s, %s, %s\n", printable.Clean(arc.Name), estate.Cores(arc.Cores), estate.GiB(arc.MemoryGiB), printable.Count(len(arc.Disks), "disk"))
				for _, d := range arc.Doubts {
					fmt.Fprintln(s.out, "doubt:", printable.Clean(d))
				}
				if len(arc.Secrets) > 0 {
					fmt.Fprintf(s.out, "secrets were left out of it; give it again: %s\n", printable.Clean(strings.Join(arc.Secrets, ", ")))
				}
			}
			return s.begin(ctx, a, o, order)
		}),
	}
	o.flags(cmd)
	importFlags(cmd, &w)
	cmd.Flags().BoolVar(&w.Lift, "lift", false, "bring the package to the site's object storage first, and have the site build from it")
	return cmd
}

func importFlags(cmd *cobra.Command, w *moves.ImportRequest) {
	cmd.Flags().StringVar(&w.Site, "site", "", "site at which it is built")
	cmd.Flags().StringVar(&w.Zone, "zone", "", "zone there")
	cmd.Flags().StringVar(&w.Size, "size", "", "size there; without it the cheapest that is no less")
	cmd.Flags().StringVar(&w.Network, "network", "", "network there; without it the one it was in")
	cmd.Flags().StringVar(&w.Name, "name", "", "name of the deployment; without it that of the package")
}

func (s *shared) packageLift() *cobra.Command {
	var o running
	var w moves.ImportRequest
	var on bool
	cmd := &cobra.Command{
		Use:   "lift DEPLOYMENT INSTANCE --site SITE",
		Short: "Lift a workload to a site's object storage, and build from it there",
		Long: `Packs an instance with its disks, uploads the package to the object storage of a site, where its digest is checked, and has the
site build from it, as a deployment of its own. An upload that broke off goes on where it was. The package stays there until
andamio package drop takes it away.`,
		Args: cobra.ExactArgs(2),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			order, out, err := a.Lifting(ctx, d.ID, rest[0], on, w)
			if err != nil {
				return err
			}
			if !s.json {
				fmt.Fprintf(s.out, "%s is packed: %s\n", printable.Clean(rest[0]), migrate.Bytes(float64(out.Bytes)))
				if len(out.Secrets) > 0 {
					fmt.Fprintf(s.out, "secrets were left out and must be given again: %s\n", strings.Join(out.Secrets, ", "))
				}
			}
			return s.begin(ctx, a, o, order)
		}),
	}
	o.flags(cmd)
	importFlags(cmd, &w)
	cmd.Flags().BoolVar(&on, "running", false, "pack it although it is on")
	return cmd
}

func (s *shared) packageDrop() *cobra.Command {
	var o running
	cmd := &cobra.Command{
		Use:   "drop DEPLOYMENT",
		Short: "Take away what of a deployment is kept in object storage",
		Long: `Removes the package that a deployment was built from out of the site's object storage. What was built stays. It is shown first,
and done when the deployment's name is typed, or given with --confirm.`,
		Args: cobra.ExactArgs(1),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) error {
			order, err := a.Dropping(ctx, d.ID)
			if err != nil {
				return err
			}
			return s.show(ctx, a, o, order)
		}),
	}
	o.changing(cmd)
	return cmd
}
