package job

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/text"
)

// CheckAnswered is what a person has found by a check after a job; the body is an answerBody.
const CheckAnswered ledger.Kind = "check-answered"

// Check is something that a person checks after a job, and what was found.
type Check struct {
	order.Caution
	Answered time.Time `json:"answered,omitzero"` // zero: no one has checked it
	Holds    bool      `json:"holds"`
	Because  string    `json:"because,omitempty"` // why it does not hold
	By       string    `json:"by,omitempty"`
}

type answerBody struct {
	Name    string `json:"name"`
	Holds   bool   `json:"holds"`
	Because string `json:"because,omitempty"`
	By      string `json:"by"`
}

// UnknownCheckError is returned for the name of a check that a job does not have.
type UnknownCheckError struct {
	Name, Job string
	Known     []string
}

func (e *UnknownCheckError) Error() string {
	has := "none"
	if len(e.Known) > 0 {
		has = strings.Join(e.Known, ", ")
	}
	return fmt.Sprintf("the job %s has no check %s; it has %s", e.Job, e.Name, has)
}

// AnswerCheck records what a check of a job has found. Its errors are an UnknownCheckError and
// those of the ledger.
func AnswerCheck(l *ledger.Ledger, s State, name string, holds bool, because, by string) error {
	var known []string
	for _, c := range s.Checks {
		known = append(known, c.Name)
	}
	if !slices.Contains(known, name) {
		return &UnknownCheckError{name, s.ID, known}
	}
	return l.Append(CheckAnswered, s.ID, "", answerBody{name, holds, because, by})
}

// answered folds an answer.
func (s *State) answered(e ledger.Entry) error {
	var b answerBody
	if err := json.Unmarshal(e.Body, &b); err != nil {
		return unreadable(e, err)
	}
	for i := range s.Checks {
		if c := &s.Checks[i]; c.Name == b.Name {
			c.Answered, c.Holds = e.At, b.Holds
			c.Because, c.By = text.Clean(b.Because), text.Clean(b.By)
		}
	}
	return nil
}
