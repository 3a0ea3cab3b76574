/** What arrives, as it arrives: server-sent events, the latest above. */
import { useEffect, useState } from "react";

import type { TailReport } from "../../api/types";
import { count } from "../../format/numbers";
import { clock } from "../../format/times";
import { Button, Faint, PlainTable, TableFrame } from "../../ui/parts";

/** Rows that are kept to look at. */
const MOST_ROWS = 200;

interface Row {
  key: string;
  metric: string;
  tags: string;
  time: string;
  value: TailReport["points"][number]["value"];
}

export function Tail({ dataset }: { dataset: string }) {
  const [rows, setRows] = useState<Row[]>([]);
  const [status, setStatus] = useState("waiting for the next batch");
  const [paused, setPaused] = useState(false);
  useEffect(() => {
    if (paused) return;
    let batches = 0;
    const events = new EventSource(`/api/v1/arrivals/tail?dataset=${encodeURIComponent(dataset)}`);
    events.addEventListener("batch", (event: MessageEvent<string>) => {
      const report = JSON.parse(event.data) as TailReport;
      batches += 1;
      const fresh = report.points.map((point, at) => ({
        key: `${batches} ${at}`,
        metric: point.metric,
        tags: Object.entries(point.tags)
          .map(([key, value]) => `${key}=${value}`)
          .join(" "),
        time: point.time,
        value: point.value,
      }));
      setRows((before) => [...fresh, ...before].slice(0, MOST_ROWS));
      setStatus(`the latest batch had ${count(report.accepted)} points; at most 20 are shown`);
    });
    events.addEventListener("error", () => setStatus("the service does not answer; trying again"));
    return () => events.close();
  }, [dataset, paused]);
  const tell = clock("UTC", ["2026-01-01T00:00:01Z"]);
  return (
    <>
      <p style={{ display: "flex", gap: 16, alignItems: "center", marginBottom: 8 }}>
        <Button $quiet onPress={() => setPaused(!paused)}>
          {paused ? "Continue" : "Pause"}
        </Button>
        <Faint role="status">{paused ? "paused" : status}</Faint>
      </p>
      <TableFrame $height={560} aria-label="Arriving points">
        <PlainTable aria-label="Arriving points">
          <thead>
            <tr>
              <th>time (UTC)</th>
              <th>metric</th>
              <th>tags</th>
              <th className="figure">value</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.key}>
                <td title={row.time}>{tell(row.time)}</td>
                <td>{row.metric}</td>
                <td>{row.tags}</td>
                <td className="figure">{row.value}</td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
    </>
  );
}
