/** What was rejected since the service started, by reason. */
import { useQuery } from "@tanstack/react-query";

import { refusalsQuery } from "../../api/queries";
import { count } from "../../format/numbers";
import { ago } from "../../format/times";
import { Faint, PlainTable, TableFrame, Waiting } from "../../ui/parts";

export function Refused() {
  const { data, error, refetch, dataUpdatedAt } = useQuery(refusalsQuery);
  if (!data) return <Waiting error={error} retry={refetch} />;
  const since = `since the service started, ${ago(data.since, dataUpdatedAt)}`;
  if (data.causes.length === 0) return <p>Nothing was rejected {since}.</p>;
  return (
    <>
      <TableFrame aria-label="Rejected by reason">
        <PlainTable aria-label="Rejected by reason">
          <thead>
            <tr>
              <th>reason</th>
              <th className="figure">points and rows</th>
              <th>dataset</th>
              <th>latest</th>
              <th>for example</th>
            </tr>
          </thead>
          <tbody>
            {data.causes.map((cause) => (
              <tr key={cause.cause}>
                <td>{cause.text}</td>
                <td className="figure">{count(cause.count)}</td>
                <td>{cause.dataset}</td>
                <td title={cause.time}>{ago(cause.time, dataUpdatedAt)}</td>
                <td style={{ whiteSpace: "normal" }}>{cause.example}</td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
      <Faint>{since}</Faint>
    </>
  );
}
