// Puts a gzip twin beside every built file that shrinks, for the service to embed and send as it is.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { constants, gzipSync } from "node:zlib";

const folder = "dist/assets";
let first = 0;
const page = readFileSync("dist/index.html", "utf8");
for (const name of readdirSync(folder).filter((name) => /\.(js|css)$/.test(name))) {
  const plain = readFileSync(join(folder, name));
  const packed = gzipSync(plain, { level: constants.Z_BEST_COMPRESSION });
  writeFileSync(join(folder, `${name}.gz`), packed);
  const isFirst = page.includes(name);
  if (isFirst) first += packed.length;
  console.log(`${name}: ${(plain.length / 1000).toFixed(0)} kB, ${(packed.length / 1000).toFixed(0)} kB compressed${isFirst ? ", in the first bundle" : ""}`);
}
console.log(`first bundle: ${(first / 1000).toFixed(0)} kB compressed`);
if (first > 250_000) {
  console.error("the first bundle is over 250 kB compressed");
  process.exit(1);
}
