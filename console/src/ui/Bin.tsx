/** Deleted items: restore or erase them. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { useMay } from "../api/caller";
import * as client from "../api/client";
import { binQuery } from "../api/queries";
import type { BinItem } from "../api/types";
import { count } from "../format/numbers";
import { clock } from "../format/times";
import { Button, Failure, PlainTable, TableFrame, Waiting } from "./parts";
import { SureButton } from "./SureButton";

export function Bin() {
  const queries = useQueryClient();
  const { data, error, refetch } = useQuery(binQuery);
  const may = useMay();
  const act = useMutation({
    mutationFn: ({ what, item }: { what: (id: string) => Promise<unknown>; item: BinItem }) => what(item.id),
    onSuccess: () => queries.invalidateQueries(),
  });
  if (!data) return <Waiting error={error} retry={refetch} />;
  if (data.length === 0) return <p>The bin is empty. Deleted items can be restored from here for a while.</p>;
  const time = clock("UTC", ["2026-01-01T00:01:00Z"]);
  return (
    <>
      {act.error && <Failure error={act.error} />}
      <TableFrame aria-label="Bin">
        <PlainTable aria-label="Bin">
          <thead>
            <tr>
              <th>what</th>
              <th>dataset</th>
              <th className="figure">series</th>
              <th className="figure">points</th>
              <th>deleted (UTC)</th>
              <th>erased (UTC)</th>
              <th>actions</th>
            </tr>
          </thead>
          <tbody>
            {data.map((item) => (
              <tr key={item.id}>
                <td style={{ whiteSpace: "normal" }}>
                  {item.kind} {item.what}
                </td>
                <td>{item.dataset}</td>
                <td className="figure">{count(item.series)}</td>
                <td className="figure">{item.points === null ? "all" : count(item.points)}</td>
                <td title={item.deleted}>{time(item.deleted)}</td>
                <td title={item.erased}>{time(item.erased)}</td>
                <td>
                  {may("define", item.dataset) && (
                    <>
                      <Button $quiet onPress={() => act.mutate({ what: client.restoreBinned, item })}>
                        Restore
                      </Button>{" "}
                      <SureButton sure="Really erase it" onSure={() => act.mutate({ what: client.eraseBinned, item })}>
                        Erase permanently
                      </SureButton>
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
    </>
  );
}
