package amend

import (
	"fmt"
	"slices"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/edit"
)

// Alone has an account of an application left as it is, and says why beside it.
func (a *Amendment) Alone(app *model.App, account, because string) error {
	if _, yes := app.IsAlone(account); yes {
		return nil
	}
	y, err := a.yaml(app.Pos.File)
	if err != nil {
		return err
	}
	list := y.Get("alone")
	item := edit.Inline(account)
	if list == nil || list.Style&yaml.FlowStyle == 0 {
		item = edit.Scalar(account) + "   # " + because
	}
	a.alone[app.Pos.File] = append(a.alone[app.Pos.File], item)
	return nil
}

// Name has the account of a person be one that is called otherwise than those of others, and
// lets plans change it.
func (a *Amendment) Name(app *model.App, person, account string) error {
	y, err := a.yaml(app.Pos.File)
	if err != nil {
		return err
	}
	pos, alone := app.IsAlone(account)
	if list := y.Get("alone"); list != nil {
		for i, n := range list.Content {
			if table.Fold(n.Value) == table.Fold(account) {
				if err := y.ChangeItems(y.Root, "alone", []int{i}, nil); err != nil {
					return err
				}
				alone = false
			}
		}
	}
	if alone {
		return fmt.Errorf("the account %q is left alone by a filter (%s); narrow that filter first", account, pos)
	}
	named := y.Get("named")
	if named != nil && len(named.Content) > 0 {
		return y.SetKey(named, person, edit.Scalar(account))
	}
	return y.AddKey(y.Root, []string{"named:", "  " + edit.Scalar(person) + ": " + edit.Scalar(account)})
}

func (a *Amendment) finishAlone() error {
	for file, items := range a.alone {
		y, err := a.yaml(file)
		if err != nil {
			return err
		}
		slices.Sort(items)
		if err := y.AddItems(y.Root, "alone", slices.Compact(items)...); err != nil {
			return err
		}
	}
	return nil
}
