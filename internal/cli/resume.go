package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/plan"
)

func (a *app) resumeCmd() *cobra.Command {
	var said firmware.Patience
	c := &cobra.Command{
		Use:   "resume [JOB]",
		Short: "Continue an interrupted job",
		Long: `Continue with a job after a crash, a power cut or a closed lid, with the same order,
the same rules and the remaining work. Each device that was being updated is first asked which
version it runs and which image it holds. Catena waits for a device that is still writing. Nothing
is sent a second time unless the device cannot report what it holds. Without JOB, the interrupted
job is resumed.`,
		Example: "  catena resume\n  catena resume j3",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("catena resume takes at most one job")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			return a.resume(c.Context(), args, said)
		},
	}
	patienceVar(c, &said)
	c.Flags().BoolP("yes", "y", false, "for scripts: resume never asks")
	return c
}

func (a *app) resume(ctx context.Context, args []string, said firmware.Patience) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	state, err := a.interruptedJob(w, args)
	switch {
	case err != nil:
		return err
	case state.Elsewhere() && state.Ended.IsZero():
		return refused("%s is a job of another laptop or user; only that one can continue it. To "+
			"abandon it: catena stop %[1]s --give-up", state.ID)
	case state.Alive:
		return resumeFault(job.ErrRunning, state.ID)
	case !state.Ended.IsZero():
		return resumeFault(job.ErrOver, state.ID)
	}
	access, err := a.accessTo(w, state.Order)
	if err != nil {
		return err
	}
	switch {
	case state.Missed(a.now()):
		a.say("The start of job %s at %s was missed. Starting it now.", state.ID,
			state.Order.Start.Local().Format("2006-01-02 15:04"))
	case state.Scheduled():
		a.say("Job %s starts %s.", state.ID, jobview.When(state.Order.Start, a.now()))
	default:
		a.say("Continuing with job %s of %s: %s.", state.ID,
			state.Started.Local().Format("2006-01-02 15:04"), jobview.Open(state))
	}
	done, err := w.MeetOthers(ctx)
	if err != nil {
		return err
	}
	defer done()
	j, err := w.Resume(access, state, said)
	if err != nil {
		return resumeFault(err, state.ID)
	}
	return a.seeThrough(ctx, w, access, j, false)
}

// resumeFault says what to do where a job cannot be taken over.
func resumeFault(err error, id string) error {
	switch {
	case errors.Is(err, job.ErrRunning):
		return refused("%w; watch it: catena track %s", err, id)
	case errors.Is(err, plan.ErrGivenUp):
		return refused("%w; take over how it ended: catena sync, then catena track %s --once", err, id)
	case errors.Is(err, job.ErrOver):
		return refused("%w; see how: catena track %s --once", err, id)
	}
	return err
}

// interruptedJob is the job that a person names, or the one that was interrupted.
func (a *app) interruptedJob(w *plan.Site, args []string) (job.State, error) {
	if len(args) == 1 {
		return w.JobState(args[0])
	}
	all, err := w.Interrupted()
	switch {
	case err != nil:
		return job.State{}, err
	case len(all) == 0:
		return job.State{}, refused("no job is interrupted here; list the jobs: catena jobs")
	case len(all) > 1:
		var ids []string
		for _, s := range all {
			ids = append(ids, s.ID)
		}
		return job.State{}, usage("several jobs are interrupted (%s); name one",
			strings.Join(ids, ", "))
	}
	return all[0], nil
}

// sayInterrupted names jobs that someone has to continue with.
func (a *app) sayInterrupted(w *plan.Site) error {
	all, err := w.Interrupted()
	for _, s := range all {
		view.Print(a.err, "Job %s was interrupted: %s.\nContinue with it: catena resume %[1]s. "+
			"Or abandon it: catena stop %[1]s --give-up\n",
			s.ID, jobview.Open(s))
	}
	return err
}

func (a *app) stopCmd() *cobra.Command {
	var giveUp bool
	var accept []string
	c := &cobra.Command{
		Use:   "stop JOB [DEVICE…]",
		Short: "Stop a job, take devices out of it, or abandon it",
		Long: `Ask a running job to start no more devices, from any terminal. Devices in progress
finish: a write is never interrupted. A lockstep set that is partly updated is completed; stop the
job again to roll it back instead. A scheduled job is cancelled.

With devices, only those are taken out of the job: pending ones are skipped, and a device that has
not received the first byte of an image is abandoned.

With --give-up, an interrupted job is ended without continuing. Each open device is asked once for
its version. A device that does not answer, or runs neither its target nor its previous version, is
recorded as stranded.`,
		Example: "  catena stop j3\n  catena stop j3 cam-11 cam-12\n  catena stop j3 --give-up",
		Args:    atLeast(1, "a job, and optionally some of its devices"),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return a.stopDevices(args[0], args[1:])
			}
			return a.stop(c.Context(), args[0], giveUp, slices.Contains(accept, plan.Unseen))
		},
	}
	c.Flags().BoolVar(&giveUp, "give-up", false, "end an interrupted job without continuing")
	c.Flags().StringSliceVar(&accept, "accept", nil,
		"with --give-up: abandon a job of another laptop, which may be running there (unseen)")
	return c
}

func (a *app) stop(ctx context.Context, id string, giveUp, acceptUnseen bool) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	state, err := w.JobState(id)
	switch {
	case err != nil:
		return err
	case !state.Ended.IsZero():
		return refused("%w; see how: catena track %s --once", job.ErrOver, id)
	case state.Elsewhere() && !(giveUp && acceptUnseen):
		return refused("%s is a job of another laptop, which may be running there now: no one here can "+
			"see that. Stop it on that laptop. Only if that laptop can no longer end it: catena stop "+
			"%[1]s --give-up --accept unseen", id)
	case state.Alive && giveUp:
		return refused("%w; stop it first: catena stop %s", job.ErrRunning, id)
	case state.Alive:
		if err := w.Stop(id); err != nil {
			return err
		}
		a.say("%s", stopText(state))
		return nil
	case state.Scheduled():
		// it is called off: nothing was started
	case !giveUp:
		return refused("job %s was interrupted, and no process continues it. Continue with it: "+
			"catena resume %[1]s; or abandon it: catena stop %[1]s --give-up", id)
	}
	access, err := a.accessTo(w, state.Order)
	if err != nil {
		return err
	}
	done, err := w.MeetOthers(ctx)
	if err != nil {
		return err
	}
	defer done()
	if state, err = w.GiveUp(ctx, access, state); err != nil {
		return resumeFault(err, id)
	}
	a.say("Job %s is abandoned.", id)
	return a.summary(w, state)
}

// stopText says what a stop of a running job does, before it happens.
func stopText(state job.State) string {
	if state.Stopped {
		return fmt.Sprintf("Stopping job %s: devices in progress will finish; lockstep sets that are "+
			"half-updated will be rolled back.", state.ID)
	}
	if state.Scheduled() {
		return fmt.Sprintf("Job %s is cancelled: no device was started.", state.ID)
	}
	text := fmt.Sprintf("Stopping job %s: devices in progress will finish; no more will start.",
		state.ID)
	if sets := state.Halfway(); len(sets) > 0 {
		text += fmt.Sprintf("\nLockstep set %s is half-updated and will be completed. To roll it back "+
			"instead, stop again: catena stop %s",
			strings.Join(sets, ", "), state.ID)
	}
	return text + fmt.Sprintf("\nWatch it: catena track %s", state.ID)
}

// stopDevices takes single devices out of a running job.
func (a *app) stopDevices(id string, names []string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	state, err := w.JobState(id)
	switch {
	case err != nil:
		return err
	case !state.Ended.IsZero():
		return refused("%w; see how: catena track %s --once", job.ErrOver, id)
	case state.Elsewhere():
		return refused("%s is a job of another laptop; take devices out of it there", id)
	}
	devices, err := plan.Members(state, names)
	if err != nil {
		return err
	}
	for _, d := range devices {
		switch {
		case d.Step.End():
			a.say("%s has ended already: %s.", d.Name, d.Step)
		case d.Step == job.Waiting:
			a.say("%s will be skipped.", d.Name)
		case d.Step == job.Checking:
			a.say("%s is being checked and will be abandoned.", d.Name)
		default:
			a.say("%s has been written to and will finish: a write is never interrupted.", d.Name)
		}
	}
	return w.TakeOut(state, devices)
}
