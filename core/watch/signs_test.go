package watch

import "testing"

func TestSignsOfPrograms(t *testing.T) {
	beside := []string{"plan.xlsx", "reef.blend", "a.kra", "hero.png", "quarterly report.docx"}
	for sign, want := range map[string]string{
		"~$plan.xlsx": "plan.xlsx", "~$arterly report.docx": "quarterly report.docx", ".~lock.plan.xlsx#": "plan.xlsx",
		"reef.blend@": "", "reef.blend.tmp": "reef.blend", ".a.kra-autosave.kra": "a.kra", "hero.png~": "hero.png",
		".hero.png.swp": "hero.png", "#hero.png#": "hero.png",
		"other.tmp": "", "~$x": "", "hero.png": "", "hero2.png": "", ".gitignore": "",
	} {
		got := ""
		if isSign(sign) {
			got = signOf(sign, beside)
		}
		if got != want {
			t.Errorf("%s is a sign of %q, not %q", sign, got, want)
		}
	}
}
