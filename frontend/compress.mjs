// Each script and style beside itself as it is sent: as small as it gets, made once and not for each who asks.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

const folder = "../src/kind_echo/web/static/assets";
for (const name of readdirSync(folder)) {
  if (!/\.(js|css)$/.test(name)) continue;
  const content = readFileSync(join(folder, name));
  const params = { [constants.BROTLI_PARAM_QUALITY]: 11, [constants.BROTLI_PARAM_SIZE_HINT]: content.length };
  writeFileSync(join(folder, `${name}.br`), brotliCompressSync(content, { params }));
  writeFileSync(join(folder, `${name}.gz`), gzipSync(content, { level: 9 }));
}
