package sound

import "math"

// loudness gives the integrated loudness in LUFS, minus infinity for silence, by
// Recommendation ITU-R BS.1770-4: two filters, blocks of 400 ms that overlap by
// three quarters, an absolute gate at -70 LUFS and a relative one 10 below.
// Channels beyond the first five count as these do not: they are left out.
func (w *Wave) loudness() float64 {
	step := w.rate / 10
	if step == 0 || len(w.channels) == 0 {
		return math.Inf(-1)
	}
	steps := w.length() / step
	energy := make([]float64, steps) // mean square of each 100 ms, over the channels
	for c, samples := range w.channels[:min(len(w.channels), 5)] {
		weight := 1.0
		if c >= 3 { // the surround channels
			weight = 1.41
		}
		first, second := shelf(float64(w.rate)), highPass(float64(w.rate))
		for k := range steps {
			sum := 0.0
			for _, v := range samples[k*step : (k+1)*step] {
				y := second.next(first.next(float64(v)))
				sum += y * y
			}
			energy[k] += weight * sum / float64(step)
		}
	}
	var blocks []float64
	for k := 0; k+4 <= steps; k++ {
		blocks = append(blocks, (energy[k]+energy[k+1]+energy[k+2]+energy[k+3])/4)
	}
	if steps > 0 && steps < 4 { // shorter than a block: all that there is
		sum := 0.0
		for _, e := range energy {
			sum += e
		}
		blocks = []float64{sum / float64(steps)}
	}
	mean := gated(blocks, -70)
	return lufs(gated(blocks, lufs(mean)-10))
}

func lufs(energy float64) float64 { return -0.691 + 10*math.Log10(energy) }

// gated gives the mean of the blocks above a loudness and above -70 LUFS.
func gated(blocks []float64, above float64) float64 {
	sum, n := 0.0, 0
	for _, e := range blocks {
		if l := lufs(e); l > above && l > -70 {
			sum, n = sum+e, n+1
		}
	}
	if n == 0 {
		return 0
	}
	return sum / float64(n)
}

// biquad is a filter of second order.
type biquad struct{ b0, b1, b2, a1, a2, z1, z2 float64 }

func (q *biquad) next(x float64) float64 {
	y := q.b0*x + q.z1
	q.z1 = q.b1*x - q.a1*y + q.z2
	q.z2 = q.b2*x - q.a2*y
	return y
}

// shelf is the first filter of the recommendation, for any rate: the bilinear
// transform of the filter that it gives for 48 kHz.
func shelf(rate float64) *biquad {
	const f0, gain, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
	k := math.Tan(math.Pi * f0 / rate)
	vh := math.Pow(10, gain/20)
	vb := math.Pow(vh, 0.4996667741545416)
	a0 := 1 + k/q + k*k
	return &biquad{b0: (vh + vb*k/q + k*k) / a0, b1: 2 * (k*k - vh) / a0, b2: (vh - vb*k/q + k*k) / a0, a1: 2 * (k*k - 1) / a0,
		a2: (1 - k/q + k*k) / a0}
}

// highPass is the second filter.
func highPass(rate float64) *biquad {
	const f0, q = 38.13547087602444, 0.5003270373238773
	k := math.Tan(math.Pi * f0 / rate)
	a0 := 1 + k/q + k*k
	return &biquad{b0: 1, b1: -2, b2: 1, a1: 2 * (k*k - 1) / a0, a2: (1 - k/q + k*k) / a0}
}
