// Holds HTTP Archives against the schema of HAR 1.2.
//
// Usage: node check_har.js FILE...
import fs from "node:fs";
import { createRequire } from "node:module";

const require = createRequire(import.meta.url);
const Ajv = require("ajv");
const schemas = require("har-schema");

// The schema is of an older draft than the library reads by itself.
const ajv = new Ajv({ allErrors: true, schemas: Object.values(schemas), meta: false, schemaId: "auto", validateSchema: false });
ajv.addMetaSchema(require("ajv/lib/refs/json-schema-draft-06.json"));
const validate = ajv.getSchema("har.json");
let status = 0;
for (const file of process.argv.slice(2)) {
  const archive = JSON.parse(fs.readFileSync(file, "utf8"));
  if (!validate(archive)) {
    status = 1;
    for (const error of validate.errors) console.log(`${file}: ${error.dataPath} ${error.message}`);
  } else {
    console.log(`${file}: ${archive.log.entries.length} entries, ${archive.log.pages.length} pages`);
  }
}
process.exit(status);
