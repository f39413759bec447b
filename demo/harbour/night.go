package harbour

import (
	"context"
	"fmt"
	"slices"

	"github.com/samber/do/v2"

	"keenlantern.example/demo/harbour/frame"
	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// ReconcileDesk leads the night job: the ledger is compared with what lies at the quays.
type ReconcileDesk struct {
	clock TimeKeeper
	steps int
}

// Begin notes when a step began.
func (d *ReconcileDesk) Begin(ctx context.Context) string {
	defer record.Call(ctx, d.clock, d)()
	d.steps++
	return d.clock.Now().Format("15:04:05")
}

// StepReport is what one step found out.
type StepReport struct {
	ledger *BerthLedger
	began  string
	free   []string
}

// Compare reads the ledger.
func (r *StepReport) Compare(ctx context.Context) int {
	defer record.Call(ctx, r.ledger, r)()
	r.free = r.ledger.Free(ctx)
	return len(r.free)
}

// Night runs the night job: a scope of kind "job" with a scope for each step in it.
func (o *Office) Night(ctx context.Context) error {
	const name = "night reconcile"
	ctx, job := samberdo.Open(ctx, o.root, "job", name, o.wiring.night)
	defer samberdo.Close(context.WithoutCancel(ctx), job)
	if err := frame.Begin(ctx, job, name); err != nil {
		return err
	}
	desk, err := samberdo.Ask[*ReconcileDesk](job, samberdo.Entry(name))
	if err != nil {
		return err
	}
	for step := range 3 {
		if err := o.nightStep(ctx, job, desk, step); err != nil {
			return fmt.Errorf("step %d: %w", step, err)
		}
	}
	return nil
}

func (o *Office) nightStep(ctx context.Context, job do.Injector, desk *ReconcileDesk, step int) error {
	const name = "night step"
	ctx, scope := samberdo.Open(ctx, job, "step", name, o.wiring.step)
	if step == 2 && slices.Contains(o.mistakes, StepLeftOpen) {
		// "Nothing to do in the last step": but the scope is open by then, and its end was to be deferred below.
		return nil
	}
	defer samberdo.Close(context.WithoutCancel(ctx), scope)
	report, err := samberdo.Ask[*StepReport](scope, samberdo.Entry(name))
	if err != nil {
		return err
	}
	begin := record.Call(ctx, desk, nil)
	report.began = desk.Begin(ctx)
	begin()
	defer record.Call(ctx, report, nil)()
	report.Compare(ctx)
	return nil
}
