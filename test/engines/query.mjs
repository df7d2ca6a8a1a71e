// Runs the statements that come on standard input as a JSON list, and writes the rows of each as JSON.
import { createRequire } from "node:module";
const { DuckDBInstance } = createRequire(process.argv[2] + "/")("@duckdb/node-api");
let text = "";
for await (const part of process.stdin) text += part;
const connection = await (await DuckDBInstance.create(":memory:")).connect();
const results = [];
for (const statement of JSON.parse(text)) {
  const reader = await connection.runAndReadAll(statement);
  results.push(reader.getRowObjectsJson());
}
process.stdout.write(JSON.stringify(results));
