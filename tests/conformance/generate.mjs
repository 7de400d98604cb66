// node generate.mjs FOLDER SEED STEPS APP…: walk these apps and write what each dialect logs.
import { walkBrowser } from "./browser_walk.mjs";
import { walkMobile } from "./mobile_walk.mjs";

const [folder, seed, steps, ...names] = process.argv.slice(2);
for (const name of names) {
  const walk = name === "browser" ? walkBrowser : walkMobile.bind(null, name);
  const { log, map } = await walk(Number(seed), Number(steps));
  log.write(`${folder}/${name}`, map);
}
