package story

import (
	"errors"
	"fmt"
	"path/filepath"

	"bellwether/demo"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

// bookingWish is where the booking office wants to go: to the framework's next major, with the history gem from
// its branch, and all else along within its major.
var bookingWish = world.Request{To: []string{"gantline@~> 8.0", "wakelog@main"}, Reach: "minor"}

// booking is the second part of the demo, about gems: a framework whose history gem is ready only on a
// branch. Without Ruby it says what it leaves out.
func (d *telling) booking(s *Registries) error {
	for _, tool := range [][]string{{"ruby", "--version"}, {"bundle", "--version"}} {
		if _, err := run.Output(d.ctx, tool...); err != nil {
			fmt.Fprintf(d.w, "\nThe booking office, a project of gems, is left out: %s is not installed.\n", tool[0])
			return nil
		}
	}
	top := d.dir + "-booking"
	b := *d
	b.dir = filepath.Join(top, "office")
	b.env = []string{"BUNDLE_USER_HOME=" + filepath.Join(top, "bundler"), "BUNDLE_SILENCE_ROOT_WARNING=1"}
	if err := b.layOutBooking(s.Gems(), filepath.Join(top, "wakelog")); err != nil {
		return fmt.Errorf("laying the booking office out: %w", err)
	}
	err := inOrder(
		b.look,
		b.noWay(
			"The framework's next major: no gem goes down to where an older release would take it",
			world.Request{To: bookingWish.To[:1]},
		),
		b.bookingRoute, b.bookingLegs, b.end,
	)
	if err != nil {
		return err
	}
	fmt.Fprintf(d.w, "\nThe booking office is in %s.\n", b.dir)
	return nil
}

// layOutBooking lays the booking office out, and the repository of a gem that is not released yet.
func (d *telling) layOutBooking(server, source string) error {
	if err := demo.LayOutBooking(d.dir, source, server); err != nil {
		return err
	}
	if _, err := git.Init(d.ctx, source, "Wakelog", "crew@wakelog.example", "Ready for the framework's 8.0"); err != nil {
		return err
	}
	_, err := git.Init(d.ctx, d.dir, "Saltmarsh Ferries", "crew@saltmarsh.example", "The booking office as it runs at the north pier")
	return err
}

func (d *telling) bookingRoute() error {
	d.chapter(
		"Take the history gem from its branch meanwhile: a route",
		fmt.Sprintf("bellwether route --to '%s' --to %s --reach minor", bookingWish.To[0], bookingWish.To[1]),
	)
	p, err := d.open()
	if err != nil {
		return err
	}
	r, err := plan.Route(d.ctx, p.Desk, p.Tree, p.Kept, bookingWish)
	if err != nil {
		return err
	}
	return d.out.Route(r)
}

// bookingLegs carries the route out. The start cannot be installed, since a locked gem was taken back.
func (d *telling) bookingLegs() error {
	d.chapter(
		"A locked gem was taken back, so that the start is red: carry it out from there",
		"bellwether advance --all --from-red",
	)
	d.fromRed = true
	if done, err := d.advanceAll(); err != nil || !done {
		return errors.Join(err, errDemo)
	}
	return nil
}
