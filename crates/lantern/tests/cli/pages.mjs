// Opens pages in a real browser, narrow and wide, light and dark, and tells what is wrong with each.
// node pages.mjs FOLDER-OF-MODULES PAGE…
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";
import { readFileSync } from "node:fs";
import path from "node:path";

const [modules, ...pages] = process.argv.slice(2);
const need = createRequire(path.join(path.resolve(modules), "x.js"));
const { chromium } = need("playwright-core");
const axe = readFileSync(need.resolve("axe-core/axe.min.js"), "utf8");

const browser = await chromium.launch({
  executablePath: "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
});
for (const file of pages) {
  for (const [width, colorScheme] of [[360, "light"], [1280, "light"], [360, "dark"], [1280, "dark"]]) {
    const context = await browser.newContext({ viewport: { width, height: 800 }, colorScheme });
    const page = await context.newPage();
    const wrong = [];
    page.on("console", (line) => line.type() === "error" && wrong.push(`said: ${line.text()}`));
    page.on("pageerror", (error) => wrong.push(`failed: ${error.message}`));
    const asked = [];
    page.on("request", (request) => asked.push(request.url()));
    await page.goto(pathToFileURL(file).href);
    asked.filter((url) => !/^(file|data):/.test(url)).forEach((url) => wrong.push(`asked for ${url}`));
    const overflow = await page.evaluate(() => document.scrollingElement.scrollWidth - window.innerWidth);
    if (overflow > 0) wrong.push(`${overflow} pixels too wide`);
    const regions = await page.locator(".wide").count();
    for (let at = 0; at < regions; at += 1) {
      await page.keyboard.press("Tab");
      const seen = await page.evaluate(() => {
        const here = document.activeElement;
        return here.matches(".wide") && getComputedStyle(here).outlineStyle !== "none";
      });
      if (!seen) wrong.push(`the keyboard does not reach region ${at + 1}`);
    }
    await page.evaluate(axe);
    const { violations } = await page.evaluate(() => window.axe.run());
    violations.forEach((it) => wrong.push(`${it.id}: ${it.nodes.map((node) => node.target).join(", ")}`));
    console.log(`${path.basename(file)} ${width} ${colorScheme}: ${wrong.length ? wrong.join("; ") : "right"}`);
    await context.close();
  }
}
await browser.close();
