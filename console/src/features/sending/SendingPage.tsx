/** Sinks: state, figures and actions. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";

import { useMay } from "../../api/caller";
import * as client from "../../api/client";
import { sinksQuery } from "../../api/queries";
import type { SinkInfo } from "../../api/types";
import { count, short } from "../../format/numbers";
import { ago } from "../../format/times";
import { Button, Failure, PlainTable, TableFrame, Title, Waiting } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";
import type { Draft } from "../definitions/definition";
import { firstDraft, SinkForm } from "./SinkForm";
import { SinkDetails } from "./SinkDetails";
import { stateOf } from "./state";

export default function SendingPage({ dataset }: { dataset: string }) {
  const { data, error, refetch, dataUpdatedAt } = useQuery(sinksQuery);
  const may = useMay();
  const [open, setOpen] = useState<string | null>(null);
  const [draft, setDraft] = useState<Draft>(() => firstDraft(dataset));
  if (!data) return <Waiting error={error} retry={refetch} />;
  return (
    <>
      <Title>Sending</Title>
      {data.length === 0 ? (
        <p>No sink is defined. A sink sends points continuously: to another service, to an address, or into files.</p>
      ) : (
        <TableFrame aria-label="Sinks">
          <PlainTable aria-label="Sinks">
            <thead>
              <tr>
                <th>sink</th>
                <th>kind</th>
                <th>dataset</th>
                <th>destination</th>
                <th>state</th>
                <th>last sent</th>
                <th className="figure">points/s</th>
                <th className="figure">points</th>
                <th>actions</th>
              </tr>
            </thead>
            <tbody>
              {data.map((sink) => (
                <Fragment key={sink.name}>
                  <tr>
                    <td>{sink.name}</td>
                    <td>{sink.kind}</td>
                    <td>{sink.dataset}</td>
                    <td style={{ whiteSpace: "normal", overflowWrap: "anywhere" }}>{sink.destination}</td>
                    <td style={{ whiteSpace: "normal" }}>{stateOf(sink, dataUpdatedAt)}</td>
                    <td title={sink.last_sent ?? ""}>
                      {sink.last_sent === null ? "never" : ago(sink.last_sent, dataUpdatedAt)}
                    </td>
                    <td className="figure">{short(sink.points_per_second)}</td>
                    <td className="figure">{count(sink.points)}</td>
                    <td>
                      <Button
                        $quiet
                        $low
                        aria-label={`${open === sink.name ? "Close details" : "Details"} of ${sink.name}`}
                        onPress={() => setOpen(open === sink.name ? null : sink.name)}
                      >
                        {open === sink.name ? "Close" : "Details"}
                      </Button>{" "}
                      {may("admin") && <Actions sink={sink} />}
                    </td>
                  </tr>
                  {open === sink.name && (
                    <tr>
                      <td colSpan={9} style={{ whiteSpace: "normal" }}>
                        <SinkDetails sink={sink} edit={may("admin") ? setDraft : undefined} />
                      </td>
                    </tr>
                  )}
                </Fragment>
              ))}
            </tbody>
          </PlainTable>
        </TableFrame>
      )}
      {may("admin") && <SinkForm draft={draft} change={setDraft} dataset={dataset} />}
    </>
  );
}

function Actions({ sink }: { sink: SinkInfo }) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: (what: () => Promise<unknown>) => what(),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sinks"] }),
  });
  if (act.error) return <Failure error={act.error} />;
  const isPaused = sink.state === "paused";
  const word = isPaused ? "Resume" : "Pause";
  return (
    <>
      <Button
        $quiet
        $low
        aria-label={`${word} ${sink.name}`}
        onPress={() => act.mutate(() => client.changeSink(sink.name, isPaused ? "resume" : "pause"))}
      >
        {word}
      </Button>{" "}
      <SureButton
        isLow
        sure={`Really remove ${sink.name}`}
        onSure={() => act.mutate(() => client.removeSink(sink.name))}
      >
        Remove
      </SureButton>
    </>
  );
}
