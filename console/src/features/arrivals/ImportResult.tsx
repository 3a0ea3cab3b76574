/** What came of an import, or of trying one. */
import styled from "styled-components";

import type { ImportRecord } from "../../api/types";
import { count } from "../../format/numbers";
import { clock } from "../../format/times";
import { Failure, Faint, PlainTable, TableFrame } from "../../ui/parts";

const Bar = styled.progress`
  width: 100%;
  height: 8px;
  accent-color: ${({ theme }) => theme.water};
`;

const Figures = styled.dl`
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 2px 16px;
  margin: 0;
  dt {
    color: ${({ theme }) => theme.faint};
  }
  dd {
    margin: 0;
  }
`;

export function ImportResult({ record }: { record: ImportRecord }) {
  const tried = record.order.dry_run;
  const lines: [string, string][] = [
    [
      tried ? "points that would be stored" : "stored points",
      `${count(record.accepted)} from ${count(record.rows)} rows`,
    ],
    ["rejected", count(record.rejected)],
  ];
  const add = (name: string, value: number, text: string) => value > 0 && lines.push([name, text]);
  add("replaced other points", record.replaced ?? 0, count(record.replaced ?? 0));
  add("of paused metrics", record.dropped, `${count(record.dropped)}, dropped`);
  add("empty cells", record.empty_cells, count(record.empty_cells));
  add("new metrics", record.new_metrics.length, record.new_metrics.slice(0, 30).join(", "));
  add("new tags", record.new_tags.length, record.new_tags.join(", "));
  add("new series", record.new_series, count(record.new_series));
  if (record.first !== null && record.last !== null) {
    const tell = clock("UTC", [record.first, record.last]);
    lines.push(["time", `${tell(record.first)} to ${tell(record.last)} UTC`]);
  }
  return (
    <>
      {record.stage === "running" && (
        <Bar max={record.bytes} value={record.read_bytes} aria-label={`Reading ${record.file}`} />
      )}
      {record.failure !== null && <Failure error={new Error(record.failure)} />}
      <Figures role="status">
        {lines.map(([name, text]) => (
          <div key={name} style={{ display: "contents" }}>
            <dt>{name}</dt>
            <dd>{text}</dd>
          </div>
        ))}
      </Figures>
      {record.notes.map((note) => (
        <Faint key={note}>{note}</Faint>
      ))}
      {record.rejects.length > 0 && (
        <TableFrame $height={240} aria-label="First rejects">
          <PlainTable aria-label="First rejects">
            <thead>
              <tr>
                <th className="figure">line</th>
                <th>field</th>
                <th>reason</th>
              </tr>
            </thead>
            <tbody>
              {record.rejects.map((reject) => (
                <tr key={`${reject.line} ${reject.field ?? ""}`}>
                  <td className="figure">{count(reject.line)}</td>
                  <td>{reject.field ?? ""}</td>
                  <td style={{ whiteSpace: "normal" }}>{reject.reason}</td>
                </tr>
              ))}
            </tbody>
          </PlainTable>
        </TableFrame>
      )}
      {record.rejects_bytes > 0 && (
        <p>
          <a href={`/api/v1/imports/${record.id}/rejects`} download>
            Download all rejects (CSV)
          </a>
        </p>
      )}
    </>
  );
}
