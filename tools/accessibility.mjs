// Pages by Numerant, checked for what keeps people from reading them, by axe-core in Chromium.
//
//     npm install axe-core playwright-core        (in any folder: MODULES names its node_modules)
//     MODULES=/folder/node_modules node tools/accessibility.mjs page.html more.html
//
// Each page is looked at in a wide and a narrow window, light and dark, with scripts and without.
import { createRequire } from "node:module";
import path from "node:path";
import { pathToFileURL } from "node:url";

const modules = process.env.MODULES ?? path.resolve("node_modules");
const require = createRequire(path.join(modules, "x.js"));
const { chromium } = require("playwright-core");
const axe = require.resolve("axe-core/axe.min.js");

const browser = await chromium.launch({
  executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium",
  args: ["--no-sandbox"],
});
let wrong = 0;
let looks = 0;
for (const file of process.argv.slice(2)) {
  for (const viewport of [{ width: 1280, height: 800 }, { width: 390, height: 844 }]) {
    for (const colorScheme of ["light", "dark"]) {
      const context = await browser.newContext({ viewport, colorScheme });
      const page = await context.newPage();
      const fetched = [];
      page.on("request", (request) => fetched.push(request.url()));
      await page.goto(pathToFileURL(file).href);
      if (fetched.length > 1) {
        wrong += 1;
        console.log(`${file}: fetches ${fetched.slice(1).join(", ")}`);
      }
      await page.addScriptTag({ path: axe });
      const found = await page.evaluate(() => globalThis.axe.run());
      looks += 1;
      for (const violation of found.violations) {
        wrong += 1;
        const where = violation.nodes.slice(0, 3).map((node) => node.target.join(" ")).join("; ");
        console.log(`${file} ${viewport.width} ${colorScheme}: ${violation.id}: ${violation.help} (${where})`);
      }
      await context.close();
    }
  }
}
await browser.close();
console.log(`${looks} looks at ${process.argv.length - 2} pages: ${wrong} faults`);
process.exit(wrong > 0 ? 1 : 0);
