// How many of something a request may hold, out of the API's document: the server's own limits, told once.
import { readFileSync, writeFileSync } from "node:fs";

const { schemas } = JSON.parse(readFileSync("../docs/openapi.json", "utf8")).components;
const limits = {
  MOST_SIDES: schemas.AskedBody.properties.sides.maxItems,
  MOST_LINES: schemas.OverlayBody.properties.lines.maxItems - 1, // the reference has a place of its own
  MOST_FILES: schemas.NewFilesBody.properties.files.maxItems,
};
const lines = Object.entries(limits).map(([name, most]) => `export const ${name} = ${most};\n`);
writeFileSync("src/api/limits.gen.ts", lines.join(""));
