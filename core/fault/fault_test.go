package fault

import (
	"errors"
	"fmt"
	"os"
	"testing"
)

func TestErrorsForPeople(t *testing.T) {
	cause := fmt.Errorf("reading: %w", os.ErrPermission)
	err := fmt.Errorf("outer: %w", New(Unreachable, "Check the rights.", "The chest in %s can't be read: %w.", "/shared", cause))
	var f *Error
	if !errors.As(err, &f) || f.What != "The chest in /shared can't be read: reading: permission denied." ||
		f.Hint != "Check the rights." || !errors.Is(err, os.ErrPermission) {
		t.Errorf("%+v", f)
	}
	for code, want := range map[Code]int{Failed: 1, Usage: 2, Conflict: 3, Refused: 4, Unreachable: 5, Damaged: 6, Interrupted: 130} {
		if got := Status(fmt.Errorf("outer: %w", New(code, "", "x"))); got != want {
			t.Errorf("%s ends with %d, want %d", code, got, want)
		}
	}
	if Status(nil) != 0 || Status(errors.New("x")) != 1 || CodeOf(errors.New("x")) != Failed {
		t.Error("no error, or one without a code")
	}
}
