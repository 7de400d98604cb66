// Compiles JSON Schemas in a validator's strict mode, and holds documents to them: pairs of a
// schema's file and documents come as JSON on standard input; out go the $id and what is wrong.
import { readFileSync } from "node:fs";
import Ajv from "ajv/dist/2020.js";

const told = JSON.parse(readFileSync(0, "utf-8")).map(([path, documents]) => {
  const schema = JSON.parse(readFileSync(path, "utf-8"));
  const validate = new Ajv({ strict: true, allErrors: true }).compile(schema);
  const wrong = documents.map((one) => (validate(one) ? [] : validate.errors));
  return { id: schema.$id, wrong };
});
console.log(JSON.stringify(told));
