package engine

import (
	"context"
	"errors"

	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/host"
)

// around finds edits that do not count on a host, since a setting elsewhere wins:
// it reads what the service reads beside the files of the change.
type around struct {
	reaches []*render.Reach
	asked   []*render.Reach // in the order of the questions
	wants   [][]string
}

// deepest is how many times includes are followed on a host.
const deepest = 5

func aroundOf(svc *definition.Service, result *render.Result) *around {
	return &around{reaches: render.ReachOf(svc, result)}
}

// questions asks for what is not read yet.
func (a *around) questions() (all []host.Question) {
	a.asked, a.wants = nil, nil
	for _, r := range a.reaches {
		if wants := r.Wants(); len(wants) > 0 {
			a.asked, a.wants = append(a.asked, r), append(a.wants, wants)
			all = append(all, host.Question{Around: wants})
		}
	}
	return all
}

// add takes the replies to the questions that were put last.
func (a *around) add(replies []host.Reply) error {
	for i, r := range a.asked {
		if replies[i].Failure != "" {
			return errors.New("what lies around the files: " + replies[i].Failure)
		}
		r.Add(a.wants[i], replies[i].Around)
	}
	return nil
}

// rest follows includes, behind what was asked first, until nothing more is wanted.
func (a *around) rest(ctx context.Context, ask asker) error {
	for range deepest - 1 {
		questions := a.questions()
		if len(questions) == 0 {
			return nil
		}
		_, replies, err := ask.ask(ctx, probe.Earlier, nil, questions...)
		if err == nil {
			err = a.add(replies)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (a *around) findings() (all []finding.Finding) {
	for _, r := range a.reaches {
		all = append(all, r.Findings()...)
	}
	return all
}
