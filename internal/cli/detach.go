package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/machine"
	"catena/internal/plan"
)

// A job that continues automatically is a separate program, which takes the job over as resume
// does. What opens the logins goes to it through its input, never by its words or its
// environment, which others may list.

// secretsFrom is the variable that tells a program to read its secrets, as a JSON object of
// variables, from its input.
const secretsFrom = "CATENA_SECRETS_FROM"

// secretNames are the variables that open the logins.
var secretNames = []string{"CATENA_PASSPHRASE", "CATENA_LOGIN", "CATENA_IDENTITY"}

// mostSecrets bounds what is read of it, in bytes.
const mostSecrets = 64 << 10

// readSecrets takes the secrets that the program was started with.
func (a *app) readSecrets() error {
	if a.getenv(secretsFrom) != "input" {
		return nil
	}
	var secrets map[string]string
	if err := json.NewDecoder(io.LimitReader(a.in, mostSecrets)).Decode(&secrets); err != nil {
		return usage("%s: its input cannot be read: %w", secretsFrom, err)
	}
	env := a.getenv
	a.getenv = func(name string) string {
		if v, ok := secrets[name]; ok {
			return v
		}
		return env(name)
	}
	return nil
}

// secrets are the variables that open the logins, as this program has them.
func (a *app) secrets() map[string]string {
	secrets := map[string]string{}
	for _, name := range secretNames {
		secrets[name] = a.getenv(name)
	}
	if a.identity != "" {
		secrets["CATENA_IDENTITY"] = a.identity
	}
	return secrets
}

// startWithin is how long a detached program may take to be at work on its job.
const startWithin = 30 * time.Second

// detach hands a job that was started and not started to a separate program.
func (a *app) detach(w *plan.Site, j *job.Job, patience string) error {
	j.Release()
	said := filepath.Join(w.Dir, ledger.Folder, j.ID+".out")
	out, err := os.OpenFile(said, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = out.Close() }() // the program has its own
	args := []string{"-C", w.Dir, "--shelf", w.Shelf.Dir(), "resume", j.ID}
	if patience != "" {
		args = append(args, "--patience", patience)
	}
	cmd, err := machine.Self(secretNames, args...)
	if err != nil {
		return err
	}
	cmd.Env = append(cmd.Env, secretsFrom+"=input")
	cmd.Stdout, cmd.Stderr = out, out
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	err = json.NewEncoder(in).Encode(a.secrets())
	_ = in.Close()
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for deadline := a.now().Add(startWithin); err == nil && !w.Runs(j.ID); {
		select {
		case err = <-ended:
			if state, stateErr := w.JobState(j.ID); stateErr == nil && !state.Ended.IsZero() {
				err = nil // it was quick
				deadline = a.now()
			}
		case <-time.After(50 * time.Millisecond):
		}
		if a.now().After(deadline) {
			break
		}
	}
	if err != nil {
		text, _ := os.ReadFile(said)
		view.Print(a.err, "%s", string(text))
		return fmt.Errorf("job %s could not continue automatically: %w. Continue with it here: catena "+
			"resume %[1]s", j.ID, err)
	}
	if state, err := w.JobState(j.ID); err == nil && state.Scheduled() {
		a.say("Job %s is scheduled: it starts %s, even if this terminal is closed.\nWatch it: "+
			"catena track %[1]s. Cancel it: catena stop %[1]s",
			j.ID, jobview.When(state.Order.Start, a.now()))
		return nil
	}
	a.say("Job %s continues in its own process, even if this terminal is closed.\nWatch it: "+
		"catena track %[1]s. Start no more devices: catena stop %[1]s", j.ID)
	return nil
}
