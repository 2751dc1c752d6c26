package page

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"html/template"
	"image"
	"image/png"
	"math"
	"net/http"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/picture"
	"oakenchest/core/kind/sound"
	"oakenchest/core/state"
)

// pictures are two versions of a picture, and what differs.
type pictures struct {
	ID, Title     string
	Was, Is, Diff template.URL
	WasSize       string
	IsSize        string
	Note          string
	Small         bool // few pixels, which are drawn large
}

// sounds are two versions of a sound.
type sounds struct {
	Title          string
	Was, Is        template.URL
	WasWave        wave
	IsWave         wave
	Seconds        string
	From, Width    float64 // of what differs, in percent of the length
	Note           string
	WasGone, IsNew bool
}

// wave is a sound drawn: the path of an SVG of 1000 by 100 units.
type wave struct {
	Path  template.HTMLAttr
	Width float64 // in units, of 1000
	Says  string
}

// twoVersions is content of which a page shows both versions.
type twoVersions struct {
	title   string
	was, is []byte
	note    string
}

// media draws what can be looked at or listened to: the artifact itself, or what is
// in it and changed.
func (p *Page) media(a Artifact) (pics []pictures, waves []sounds) {
	for _, v := range versions(a) {
		switch sort(v.was, v.is) {
		case "image":
			if pic, ok := p.picture(v); ok {
				pic.ID = fmt.Sprintf("p%d-%d", len(p.artifacts)+1, len(pics)+1)
				pics = append(pics, pic)
			}
		case "audio":
			waves = append(waves, p.sound(v))
		}
	}
	return pics, waves
}

// sort says what content is: image, audio, or something else.
func sort(all ...[]byte) string {
	for _, data := range all {
		switch src := (kind.FileSource{Name: "x", Data: data}); {
		case len(data) == 0:
		case (picture.Kind{}).Claims("x", data[:min(len(data), kind.HeadSize)]):
			return "image"
		case (sound.Kind{}).Claims(src.Name, data[:min(len(data), kind.HeadSize)]):
			return "audio"
		}
	}
	return ""
}

// versions lists the artifact itself, or values in it that stand for bytes.
func versions(a Artifact) []twoVersions {
	if a.Kind == "picture" || a.Kind == "sound" {
		v := twoVersions{was: bytesOf(a.Was), is: bytesOf(a.Is)}
		for _, c := range a.Changes {
			if note := a.Note(c); note != "" {
				v.note = note
			}
		}
		return []twoVersions{v}
	}
	const most = 40
	var out []twoVersions
	for _, c := range a.Changes {
		if len(out) == most {
			break
		}
		v := twoVersions{title: strings.TrimPrefix(c.Address.String(), element.Address{Path: c.Address.Path}.String()+"::")}
		switch from, to := c.From, c.To; {
		case c.Kind == element.Edited:
			v.was, v.is = behind(a.Was, from), behind(a.Is, to)
		case c.Element != nil && len(c.Address.Steps) > 0:
			for _, p := range c.Element.Props {
				if c.Kind == element.Added {
					v.is = behind(a.Is, p.Value)
				} else if c.Kind == element.Removed {
					v.was = behind(a.Was, p.Value)
				}
				if v.was != nil || v.is != nil {
					break
				}
			}
		}
		if v.was != nil || v.is != nil {
			out = append(out, v)
		}
	}
	return out
}

// behind gives the bytes that a value stands for.
func behind(a *state.Artifact, v element.Value) []byte {
	if a == nil || v.Sort() != element.Bytes || a.Reading.Content == nil {
		return nil
	}
	d, _ := v.Content()
	data, _ := a.Reading.Content(d)
	return data
}

// embed gives the bytes as a URL; nothing when the page would become too large.
func (p *Page) embed(mime string, data []byte) template.URL {
	if len(data) == 0 || p.left < int64(len(data)) {
		return ""
	}
	p.left -= int64(len(data))
	return template.URL("data:" + mime + ";base64," + base64.StdEncoding.EncodeToString(data))
}

// shownWide is the width in pixels at which what differs is drawn at most.
const shownWide = 1200

func (p *Page) picture(v twoVersions) (pictures, bool) {
	out := pictures{Title: v.title, Note: v.note}
	a, errA := picture.Decode(v.was)
	b, errB := picture.Decode(v.is)
	if errA != nil && errB != nil {
		return out, false
	}
	if errA == nil {
		out.Was, out.WasSize = p.drawn(v.was, a), size(a)
	}
	if errB == nil {
		out.Is, out.IsSize = p.drawn(v.is, b), size(b)
	}
	if errA == nil && errB == nil && a.Rect.Size() == b.Rect.Size() {
		d := picture.ComparePixels(a, b)
		out.Diff = p.png(picture.Overlay(a, b, d, shownWide))
		out.Note = d.String()
	} else if errA == nil && errB == nil {
		out.Note = "The two are of different sizes."
	}
	for _, img := range []*image.NRGBA{a, b} {
		out.Small = out.Small || img != nil && img.Rect.Dx() <= 256
	}
	return out, true
}

func size(img *image.NRGBA) string { return fmt.Sprintf("%d × %d", img.Rect.Dx(), img.Rect.Dy()) }

// drawn gives a picture as a browser can show it.
func (p *Page) drawn(data []byte, img *image.NRGBA) template.URL {
	switch mime := http.DetectContentType(data); mime {
	case "image/png", "image/jpeg", "image/gif", "image/webp", "image/bmp":
		return p.embed(mime, data)
	}
	return p.png(img)
}

func (p *Page) png(img *image.NRGBA) template.URL {
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return ""
	}
	return p.embed("image/png", b.Bytes())
}

// playable is the size in bytes up to which a sound can be played on the page.
const playable = 8 << 20

func (p *Page) sound(v twoVersions) sounds {
	out := sounds{Title: v.title, Note: v.note, WasGone: v.is == nil, IsNew: v.was == nil}
	a, errA := sound.Decode(v.was)
	b, errB := sound.Decode(v.is)
	longest := 0.0
	for _, w := range []*sound.Wave{a, b} {
		if w != nil && w.Rate() > 0 {
			longest = max(longest, float64(w.Length())/float64(w.Rate()))
		}
	}
	if errA == nil {
		out.WasWave = draw(a, longest)
	}
	if errB == nil {
		out.IsWave = draw(b, longest)
	}
	if longest > 0 {
		out.Seconds = fmt.Sprintf("%.2f s", longest)
	}
	if errA == nil && errB == nil && a.Rate() == b.Rate() {
		begin, end := sound.Differs(a, b)
		scale := 1000 / (longest * float64(a.Rate()))
		out.From, out.Width = float64(begin)*scale, math.Max(float64(end-begin)*scale, 2)
		if end <= begin {
			out.Width = 0
		}
	}
	out.Was, out.Is = p.played(v.was), p.played(v.is)
	return out
}

func (p *Page) played(data []byte) template.URL {
	if len(data) > playable {
		return ""
	}
	mime := http.DetectContentType(data)
	switch {
	case bytes.HasPrefix(data, []byte("fLaC")):
		mime = "audio/flac"
	case mime == "application/ogg":
		mime = "audio/ogg"
	}
	return p.embed(mime, data)
}

// columns is how many pieces a sound of full length is drawn in.
const columns = 500

// draw gives the wave of a sound; longest is the length in seconds of the whole width.
func draw(w *sound.Wave, longest float64) wave {
	if longest == 0 || w.Length() == 0 {
		return wave{}
	}
	share := float64(w.Length()) / float64(w.Rate()) / longest
	n := max(int(columns*share), 1)
	low, high := w.Envelope(n)
	step := 1000 * share / float64(n)
	var b strings.Builder
	at := func(i int, v float32) {
		fmt.Fprintf(&b, "%.1f %.1f ", (float64(i)+0.5)*step, 50-48*float64(v))
	}
	b.WriteString("M")
	for i := range n {
		at(i, high[i])
	}
	for i := n - 1; i >= 0; i-- {
		at(i, low[i])
	}
	b.WriteString("Z")
	return wave{template.HTMLAttr(`d="` + b.String() + `"`), 1000 * share, fmt.Sprintf("%.2f s", float64(w.Length())/float64(w.Rate()))}
}
