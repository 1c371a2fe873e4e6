package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/browser"
)

// What the sheet works out without drawing, in the browser that it is made for.
func TestTheSheetsOwnLogic(t *testing.T) {
	t.Parallel()
	compiler, err := os.ReadFile("../web/node_modules/typescript/lib/typescript.js")
	if err != nil {
		t.Fatal(err) // make test installs it
	}
	source, err := os.ReadFile("../web/src/sheet/columns.ts")
	if err != nil {
		t.Fatal(err)
	}
	text, _ := json.Marshal(string(source))
	b := openTab(t, 400, 300)
	b.do(browser.Script("(() => {"+string(compiler)+"\n;globalThis.ts = ts })()"),
		browser.Script(fmt.Sprintf(`(() => { const exports = {}; new Function('exports', ts.transpileModule(%s, { compilerOptions: { module: 'commonjs', target: 'es2022' } }).outputText)(exports); Object.assign(globalThis, exports) })()`, text)))
	fields := `[{key:'tag',label:'Tag',help:'t'},{key:'address',label:'Address',help:'a'},{key:'floor',label:'Floor',help:'f'}]`
	profiles := `[{settings:[{key:'room',label:'Room',type:'number',min:1,max:99,help:'Where it rings'},{key:'rings-at',label:'Rings at',type:'entry',kinds:['monitor'],many:true}]},{settings:[{key:'room',label:'Another room',type:'number'}]},{}]`
	for _, c := range []struct{ code, want string }{
		// The columns: in the order of fields and profiles, each once, whatever was asked for.
		{`columnsOf(['room','address','tag','nobody','rings-at'], ` + fields + `, ` + profiles +
			`).map(c => c.key + (c.setting ? '*' : ''))`, `["tag","address","room*","rings-at*"]`},
		{`columnsOf([], ` + fields + `, ` + profiles + `)`, `[]`},
		{`columnsOf(['room'], [], ` + profiles + `)[0].label`, `"Room"`},
		{`columnsOf(['floor','tag'], ` + fields + `, []).map(c => c.width)`, `[150,60]`},
		{`helpOf({key:'x',label:'X',type:'number',min:1,unit:'s',default:'5',help:'How long'})`,
			`"How long. 1 to … s; else 5"`},
		{`helpOf({key:'x',label:'X',type:'entry',kinds:['camera','monitor'],many:true})`,
			`"tag of camera or monitor, several"`},
		{`helpOf({key:'x',label:'X',type:'setting',of:['a','b']})`, `"TAG/a or TAG/b"`},
		{`[settingOf(undefined,'x'), settingOf({},'x')].map(x => x === undefined)`, `[true,true]`},
		// Counting on: an address as an address, a number keeps its noughts, the rest stays.
		{`['10.40.8.254','10.40.255.255','255.255.255.255','CAM-009','CAM-099','a1b','','7','1.2.3'].map(x => countOn(x, 2))`, `["10.40.9.0","10.41.0.1","0.0.0.1","CAM-011","CAM-101","a1b","","9","1.2.5"]`},
		{`countOn('10.40.9.0', -1)`, `"10.40.8.255"`},
		// A block: quoted cells hold tabs, lines and quotes; the line at the end is none.
		{`blockOf('a\tb\r\nc\td\r\n')`, `[["a","b"],["c","d"]]`},
		{`blockOf('"a\tb\nc"\t"say ""x"""\n')`, `[["a\tb\nc","say \"x\""]]`},
		{`blockOf(' a \t\n\t\nb"c\t"open')`, `[["a",""],["",""],["b\"c","open"]]`},
		{`[blockOf(''), blockOf('\n')]`, `[[[""]],[[""]]]`},
	} {
		got, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`JSON.stringify(`+c.code+`)`))
		if err != nil {
			t.Fatalf("%s: %v", c.code, err)
		}
		if got != c.want {
			t.Errorf("%s\n got  %s\n want %s", c.code, got, c.want)
		}
	}
}
