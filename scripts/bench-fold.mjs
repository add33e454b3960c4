// Folds the files of DIR/FORM with DuckDB, as foldbench does, and prints one JSON
// line. Usage: node bench-fold.mjs DIR FORM [ROWS]
import { DuckDBInstance } from "@duckdb/node-api";
import fs from "node:fs";

const [dir, form, rows] = process.argv.slice(2);
const columns = `{class_uid: 'BIGINT', time: 'BIGINT', status_id: 'BIGINT', metadata: 'STRUCT(uid VARCHAR)',
  actor: 'STRUCT("user" STRUCT(uid VARCHAR, type_id BIGINT), session STRUCT(is_mfa BOOLEAN))',
  api: 'STRUCT(operation VARCHAR, response STRUCT(code BIGINT))', resources: 'STRUCT(uid VARCHAR)[]', src_endpoint: 'STRUCT(ip VARCHAR)'}`;
const from = form === "parquet" ? `read_parquet('${dir}/parquet/*.parquet')`
  : `read_json('${dir}/${form}/*', format = 'newline_delimited', columns = ${columns}, maximum_object_size = 1048576${form === "zst" ? ", compression = 'zstd'" : form === "gz" ? ", compression = 'gzip'" : ""})`;
const sql = `create temp table groups as
  select actor."user".uid as who, api.operation as op, resources[1].uid as path,
    case when api.response.code in (401, 403) then 'refused' when status_id = 2 or api.response.code >= 400 then 'failed' else 'done' end as outcome,
    actor.session.is_mfa as mfa, count(*) as n, min(time) as first, max(time) as last, bitstring_agg((time // 86400000)::INTEGER, 20000, 22000) as days
  from ${from} where class_uid = 6003 group by all`;
const db = await DuckDBInstance.create(":memory:", { threads: "2" });
const c = await db.connect();
const start = process.hrtime.bigint();
await c.run(sql);
const seconds = Number(process.hrtime.bigint() - start) / 1e9;
const groups = Number((await c.runAndReadAll("select count(*) from groups")).getRows()[0][0]);
const peak = Number(/VmHWM:\s+(\d+)/.exec(fs.readFileSync("/proc/self/status", "utf8"))[1]);
if (rows) {
  await c.run(`copy (select who, op, path, outcome, n, first, last, bit_count(days) from groups) to '${rows}' (format csv, delimiter '\t', header false)`);
}
console.log(JSON.stringify({ seconds, peak_mb: Math.round(peak / 1024), groups }));
