package sample

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"fmt"
)

// RoundsApp makes the package of the keepers' app: a form, a flow, settings, and
// a report whose layout is one long string inside an XML file.
func RoundsApp(title string) ([]byte, error) {
	layout := base64.StdEncoding.EncodeToString([]byte(`{"title":"Feeding log of the week","columns":[{"id":"tank","width":120},{"id":"food","width":160},{"id":"fed_at","width":110}]}`))
	icon := base64.StdEncoding.EncodeToString(SandPNG(16))
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range [][2]string{
		{"app.json", `{
  "name": "Keepers' rounds",
  "version": "1.0",
  "start": "round",
  "roles": ["keeper", "curator"]
}
`},
		{"forms/round.xml", fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<form id="round">
  <title>%s</title>
  <icon>%s</icon>
  <field id="tank" label="Tank" source="tank.name"/>
  <field id="food" label="Food" source="feeding.food"/>
</form>
`, title, icon)},
		{"flows/feed.xml", `<?xml version="1.0" encoding="UTF-8"?>
<flow id="feed">
  <step id="pick" kind="form" form="round"/>
  <step id="save" kind="insert" table="feeding"/>
  <step id="thank" kind="message">The tank is fed.</step>
</flow>
`},
		{"reports/log.xml", fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<report id="log">
  <source>feeding</source>
  <layout>%s</layout>
</report>
`, layout)},
	} {
		out, err := w.CreateHeader(&zip.FileHeader{Name: e[0], Method: zip.Deflate})
		if err != nil {
			return nil, err
		}
		if _, err := out.Write([]byte(e[1])); err != nil {
			return nil, err
		}
	}
	err := w.Close()
	return b.Bytes(), err
}
