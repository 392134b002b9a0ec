// Pictures of the console's views: node pictures.mjs URL (FILE VIEW)...
import { goTo, launch, open } from "./support.mjs";

const [url, ...shots] = process.argv.slice(2);
const browser = await launch();
const page = await open(browser, url, { colorScheme: "light", reducedMotion: "reduce" });
for (let at = 0; at + 1 < shots.length; at += 2) {
  await goTo(page, shots[at + 1]);
  await page.waitForTimeout(1500);
  await page.screenshot({ path: shots[at] });
}
await browser.close();
