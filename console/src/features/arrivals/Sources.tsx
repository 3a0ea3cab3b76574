/** Sources: state, figures and actions; and the callers that push. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";

import { useMay } from "../../api/caller";
import * as client from "../../api/client";
import { pushingCallersQuery, sourcesQuery } from "../../api/queries";
import type { SourceInfo } from "../../api/types";
import { count, short } from "../../format/numbers";
import { ago } from "../../format/times";
import { troubles } from "../../format/trouble";
import { Button, Failure, Heading, PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";
import type { Draft } from "../definitions/definition";
import { SourceDetails } from "./SourceDetails";
import { firstDraft, SourceForm } from "./SourceForm";

export function Sources({ dataset }: { dataset: string }) {
  const { data, error, refetch, dataUpdatedAt } = useQuery(sourcesQuery);
  const may = useMay();
  const [open, setOpen] = useState<string | null>(null);
  const [draft, setDraft] = useState<Draft>(() => firstDraft(dataset));
  if (!data) return <Waiting error={error} retry={refetch} />;
  return (
    <>
      {data.length === 0 ? (
        <p>
          No source is defined. A source fetches points automatically: from addresses, brokers, devices, databases or
          folders.
        </p>
      ) : (
        <TableFrame aria-label="Sources">
          <PlainTable aria-label="Sources">
            <thead>
              <tr>
                <th>source</th>
                <th>kind</th>
                <th>dataset</th>
                <th>state</th>
                <th>last points</th>
                <th className="figure">points/s</th>
                <th className="figure">points</th>
                <th className="figure">rejected</th>
                <th>actions</th>
              </tr>
            </thead>
            <tbody>
              {data.map((source) => (
                <Fragment key={source.name}>
                  <tr>
                    <td>{source.name}</td>
                    <td>{source.kind}</td>
                    <td>{source.dataset}</td>
                    <td style={{ whiteSpace: "normal" }}>{stateOf(source)}</td>
                    <td title={source.last_points ?? ""}>
                      {source.last_points === null ? "none yet" : ago(source.last_points, dataUpdatedAt)}
                    </td>
                    <td className="figure">{short(source.points_per_second)}</td>
                    <td className="figure">{count(source.points)}</td>
                    <td className="figure" title={latestReject(source) ?? ""}>
                      {count(source.rejected)}
                    </td>
                    <td>
                      <Button
                        $quiet
                        $low
                        aria-label={`${open === source.name ? "Close details" : "Details"} of ${source.name}`}
                        onPress={() => setOpen(open === source.name ? null : source.name)}
                      >
                        {open === source.name ? "Close" : "Details"}
                      </Button>{" "}
                      {may("admin") && <Actions source={source} />}
                    </td>
                  </tr>
                  {open === source.name && (
                    <tr>
                      <td colSpan={9} style={{ whiteSpace: "normal" }}>
                        <SourceDetails source={source} edit={may("admin") ? setDraft : undefined} />
                      </td>
                    </tr>
                  )}
                </Fragment>
              ))}
            </tbody>
          </PlainTable>
        </TableFrame>
      )}
      <Callers now={dataUpdatedAt} />
      {may("admin") && <SourceForm draft={draft} change={setDraft} dataset={dataset} />}
    </>
  );
}

/** Callers that have pushed points since the service started. */
function Callers({ now }: { now: number }) {
  const { data: callers = [] } = useQuery(pushingCallersQuery);
  if (callers.length === 0) return null;
  return (
    <>
      <Heading style={{ marginTop: 16 }}>Callers that push</Heading>
      <TableFrame aria-label="Callers that push">
        <PlainTable aria-label="Callers that push">
          <thead>
            <tr>
              <th>caller</th>
              <th>kind</th>
              <th>dataset</th>
              <th>last points</th>
              <th className="figure">points/s</th>
              <th className="figure">points</th>
              <th className="figure">rejected</th>
            </tr>
          </thead>
          <tbody>
            {callers.map((caller) => (
              <tr key={`${caller.kind} ${caller.dataset} ${caller.token ?? ""}`}>
                <td>{caller.token ?? "this machine"}</td>
                <td>{caller.kind}</td>
                <td>{caller.dataset}</td>
                <td title={caller.last_points ?? ""}>
                  {caller.last_points === null ? "none yet" : ago(caller.last_points, now)}
                </td>
                <td className="figure">{short(caller.points_per_second)}</td>
                <td className="figure">{count(caller.points)}</td>
                <td className="figure">{count(caller.rejected)}</td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
    </>
  );
}

/** The state of a source and its errors. */
function stateOf({ state, is_late: isLate, error, parts, series }: SourceInfo): string {
  const failed = parts.filter((part) => part.error !== null && part.points === 0);
  const partly = parts.filter((part) => part.error !== null && part.points > 0);
  const more = [
    ...(isLate ? ["late"] : []),
    ...(error !== null ? [error] : []),
    ...(error === null && failed.length > 0 ? [`${failed.length} of ${parts.length} failed`] : []),
    ...(error === null && partly.length > 0 ? [`${partly.length} of ${parts.length} partly failed`] : []),
    ...troubles(series),
  ];
  return [state, ...more].join(", ");
}

function latestReject({ rejects }: SourceInfo): string | undefined {
  return rejects.flatMap((reject) => reject.samples).at(-1);
}

function Actions({ source }: { source: SourceInfo }) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: (what: () => Promise<unknown>) => what(),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sources"] }),
  });
  if (act.error) return <Failure error={act.error} />;
  const change = (word: client.SourceChange) => act.mutate(() => client.changeSource(source.name, word));
  return (
    <>
      {source.state === "paused" ? (
        <Button $quiet $low onPress={() => change("resume")} aria-label={`Resume ${source.name}`}>
          Resume
        </Button>
      ) : (
        <>
          <Button $quiet $low onPress={() => change("run")} aria-label={`Run now: ${source.name}`}>
            Run now
          </Button>{" "}
          <Button $quiet $low onPress={() => change("pause")} aria-label={`Pause ${source.name}`}>
            Pause
          </Button>
        </>
      )}{" "}
      <SureButton
        isLow
        sure={`Really remove ${source.name}`}
        onSure={() => act.mutate(() => client.removeSource(source.name))}
      >
        Remove
      </SureButton>
    </>
  );
}
