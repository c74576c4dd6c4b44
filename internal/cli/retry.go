package cli

import (
	"context"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/words"
)

func (a *app) retryCmd() *cobra.Command {
	f := jobFlags{anew: true}
	c := &cobra.Command{
		Use:   "retry JOB",
		Short: "Retry the devices of a job that failed or were not started",
		Long: `Make an order for the devices of a job that failed, were rolled back, were away,
rejected the login or were not started, and carry it out. Each one is read again first. Devices that
need a visit are skipped, and so are those that are done.`,
		Example: "  catena retry j3\n  catena retry j3 --start window",
		Args:    exactly(1, "one job"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.retry(c.Context(), f, args[0])
		},
	}
	f.flags(c)
	return c
}

// ended is how a job ended; it refuses one that continues, or was interrupted.
func ended(w *plan.Site, id string) (job.State, error) {
	state, err := w.JobState(id)
	switch {
	case err != nil:
		return state, err
	case state.Alive:
		return state, resumeFault(job.ErrRunning, id)
	case state.Interrupted():
		return state, refused("job %s was interrupted; continue with it: catena resume %[1]s", id)
	}
	return state, nil
}

func (a *app) retry(ctx context.Context, f jobFlags, id string) error {
	return a.partOf(ctx, f, id, func(w *plan.Site, s job.State) (order.Order, error) {
		o := plan.Failed(s)
		if len(o.Devices) == 0 {
			a.say("There is nothing to retry: no device of %s failed or was skipped.", id)
		}
		return o, w.OnTheFly()
	})
}

// partOf carries out the part of an ended job's order that of chooses; none of its devices: of
// has said so.
func (a *app) partOf(ctx context.Context, f jobFlags, id string,
	of func(*plan.Site, job.State) (order.Order, error)) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	state, err := ended(w, id)
	if err != nil {
		return err
	}
	o, err := of(w, state)
	if err != nil || len(o.Devices) == 0 {
		return err
	}
	return a.carryOut(ctx, w, f, w.Renewed(o, a.now()), nil)
}

func (a *app) finishCmd() *cobra.Command {
	f := jobFlags{anew: true}
	c := &cobra.Command{
		Use:   "finish JOB [DEVICE…]",
		Short: "Restart parked devices, and verify them",
		Long: `Restart the devices of a job whose images were sent in advance (flash --stage), by
the same rules: a downstream device goes before its uplink. Each device is verified, and rolled back
if it fails. A device that has already restarted automatically is only verified.`,
		Example: "  catena flash night-1 --stage\n  catena finish j3 --start window\n  catena finish " +
			"j3 cam-11 cam-12",
		Args: atLeast(1, "a job, and optionally some of its devices"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.finish(c.Context(), f, args[0], args[1:])
		},
	}
	f.flags(c)
	return c
}

func (a *app) finish(ctx context.Context, f jobFlags, id string, names []string) error {
	return a.partOf(ctx, f, id, func(w *plan.Site, s job.State) (order.Order, error) {
		of, err := plan.Members(s, names)
		if err != nil {
			return order.Order{}, err
		}
		o := w.Parked(s, of)
		if len(o.Devices) == 0 {
			a.say("There is nothing to finish: no device of %s is parked.", id)
		}
		return o, nil
	})
}

func (a *app) proveCmd() *cobra.Command {
	var found foundFlags
	c := &cobra.Command{
		Use:   "prove JOB",
		Short: "Verify the devices of a job again, without flashing",
		Long: `Query each device that a job updated once more: is it the same device, does it run
that version, is it as healthy as before? Nothing is sent to the devices. The results are recorded
in the ledger. The exit code is 3 if a device differs.

What only a person can see is listed in site.yaml (after:), for example that the horn is audible.
Record what you found with --holds or --fails: then no device is contacted. It is in the report,
with your name.`,
		Example: "  catena prove j3\n  catena prove j3 --holds horn-audible\n" +
			"  catena prove j3 --fails horn-audible --because 'the fuse of gate-2 is blown'",
		Args: exactly(1, "one job"),
		RunE: func(c *cobra.Command, args []string) error {
			if len(found.holds)+len(found.fails) > 0 {
				return a.found(args[0], found)
			}
			return a.prove(c.Context(), args[0])
		},
	}
	c.Flags().
		StringArrayVar(&found.holds, "holds", nil, "checks of the job that you have made, by name")
	c.Flags().StringArrayVar(&found.fails, "fails", nil, "checks whose sentence does not hold")
	c.Flags().StringVar(&found.because, "because", "", "with --fails: what you found")
	return c
}

// foundFlags are what a person found after a job.
type foundFlags struct {
	holds, fails []string
	because      string
}

// found records what a person found after a job.
func (a *app) found(id string, f foundFlags) error {
	if len(f.fails) > 0 && f.because == "" {
		return usage("--fails requires --because: what you found")
	}
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	state, err := w.JobState(id)
	if err != nil {
		return err
	}
	if !state.Elsewhere() && state.Ended.IsZero() {
		return usage("the job %s has not ended; check it afterwards", id)
	}
	for _, of := range []struct {
		names []string
		holds bool
	}{{f.holds, true}, {f.fails, false}} {
		for _, name := range of.names {
			because := f.because
			if of.holds {
				because = ""
			}
			if err := w.AnswerCheck(state, name, of.holds, because, whoami()); err != nil {
				return err
			}
		}
	}
	if state, err = w.JobState(id); err != nil {
		return err
	}
	a.sayChecks(state)
	return nil
}

// sayChecks lists what a person has to check after a job, and what was found.
func (a *app) sayChecks(s job.State) {
	open := 0
	for _, c := range s.Checks {
		result := "not checked"
		switch {
		case c.Answered.IsZero():
			open++
		case c.Holds:
			result = "holds, " + c.By
		default:
			result = "does not hold: " + c.Because + ", " + c.By
		}
		a.say("Check %s (%s): %s [%s]", c.Name, words.Few(c.Devices), c.Text, result)
	}
	if open > 0 {
		a.say("Record what you find: catena prove %s --holds NAME, or --fails NAME --because TEXT", s.ID)
	}
}

func (a *app) prove(ctx context.Context, id string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	state, err := w.JobState(id)
	if err != nil {
		return err
	}
	access, err := a.accessTo(w, state.Order)
	if err != nil {
		return err
	}
	proofs, err := w.Prove(ctx, access, state)
	if err != nil {
		return err
	}
	t := view.Table{Columns: []string{"device", "proof", "runs", "was proven on", "why"}}
	wrong := 0
	for _, bad := range []bool{true, false} { // what needs a person first
		for _, p := range proofs {
			if (p.Cause != nil) != bad {
				continue
			}
			proof := view.Cell{Text: "holds"}
			if bad {
				wrong++
				proof = view.Bad.Cell("does not hold")
			}
			t.Add(p.Name, proof, p.Version, p.Want, p.Reason)
		}
	}
	if len(proofs) == 0 {
		proofs = []job.Proof{}
	}
	if err := a.emit(proofs, t); err != nil {
		return err
	}
	a.say("\n%d of %s as verified in %s.", len(proofs)-wrong,
		words.Plural(len(proofs), "device"), id)
	if wrong > 0 {
		return exit{exitFailed, errSilent}
	}
	return nil
}
