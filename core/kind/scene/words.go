package scene

import (
	"math"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

var _ kind.Speaker = Kind{}

// Say gives a rotation, which the format has as a unit quaternion, as an angle in
// degrees about an axis.
func (Kind) Say(property string, v element.Value) string {
	if property != "rotation" || len(v.Items()) != 4 {
		return ""
	}
	var q [4]float64
	norm := 0.0
	for i, it := range v.Items() {
		f, err := strconv.ParseFloat(it.Text(), 64)
		if err != nil {
			return ""
		}
		q[i] = f
		norm += f * f
	}
	if math.Abs(norm-1) > 0.01 {
		return ""
	}
	angle, sine := 2*math.Atan2(math.Sqrt(q[0]*q[0]+q[1]*q[1]+q[2]*q[2]), q[3]), math.Sqrt(q[0]*q[0]+q[1]*q[1]+q[2]*q[2])
	if sine < 1e-6 {
		return "0°"
	}
	if angle > math.Pi {
		angle, sine = 2*math.Pi-angle, -sine
	}
	return short(angle*180/math.Pi) + "° about " + axis(q[0]/sine, q[1]/sine, q[2]/sine)
}

// axis names one of the three axes, or gives its direction.
func axis(x, y, z float64) string {
	const near = 1 - 1e-6
	for i, v := range []float64{x, y, z} {
		if math.Abs(v) > near {
			if v < 0 {
				return "−" + "xyz"[i:i+1]
			}
			return "xyz"[i : i+1]
		}
	}
	return short(x) + " " + short(y) + " " + short(z)
}

func short(v float64) string {
	return strings.ReplaceAll(strconv.FormatFloat(math.Round(v*100)/100, 'f', -1, 64), "-", "−")
}
