/** One sink: figures, comparison, set-aside batches, log, and definition. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import * as client from "../../api/client";
import { asideQuery, sinkEventsQuery } from "../../api/queries";
import type { SinkInfo, SinkVerification } from "../../api/types";
import { bytes, count } from "../../format/numbers";
import { FormRow, TextInput } from "../../ui/fields";
import { Button, Faint, Failure, Heading, PlainTable, TableFrame } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";
import type { Draft } from "../definitions/definition";
import { LogAndDefinition } from "../definitions/LogAndDefinition";
import { isComparable } from "./state";

const minute = (text: string): string => text.slice(0, 16).replace("T", " ");

export function SinkDetails({ sink, edit }: { sink: SinkInfo; edit: ((draft: Draft) => void) | undefined }) {
  const { data: events = [] } = useQuery(sinkEventsQuery(sink.name));
  return (
    <>
      <p>
        {count(sink.batches)} batches, {bytes(sink.bytes)}, {count(sink.rejected)} points rejected by the destination
      </p>
      {sink.rejects.map((reject) => (
        <p key={reject}>
          <Faint>{reject}</Faint>
        </p>
      ))}
      {sink.gaps.map((gap) => (
        <p key={gap.from}>
          Still to be read from partitions: {minute(gap.from)} to {minute(gap.to)} UTC
        </p>
      ))}
      {edit && <Span sink={sink} />}
      {sink.set_aside > 0 && <Aside sink={sink} mayChange={edit !== undefined} />}
      <LogAndDefinition name={sink.name} definition={sink.definition} events={events} edit={edit} />
    </>
  );
}

/** A range of time that is compared, or sent again. */
function Span({ sink }: { sink: SinkInfo }) {
  const queries = useQueryClient();
  const [over, setOver] = useState("last 1d");
  const verify = useMutation({ mutationFn: () => client.verifySink(sink.name, over) });
  const replay = useMutation({
    mutationFn: () => client.replaySink(sink.name, over),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sinks"] }),
  });
  const failure = verify.error ?? replay.error;
  return (
    <>
      <FormRow>
        <TextInput label="range of time" value={over} onChange={setOver} placeholder="last 1d" />
        {isComparable(sink) && (
          <Button $quiet isDisabled={verify.isPending} onPress={() => verify.mutate()}>
            {verify.isPending ? "Comparing …" : "Compare with the destination"}
          </Button>
        )}
        <Button $quiet isDisabled={replay.isPending} onPress={() => replay.mutate()}>
          Send again
        </Button>
      </FormRow>
      {failure && <Failure error={failure} />}
      {replay.isSuccess && !failure && <p role="status">The points of {over} are sent again.</p>}
      {verify.data && !verify.error && <Comparison found={verify.data} />}
    </>
  );
}

function Comparison({ found }: { found: SinkVerification }) {
  const compared = `${count(found.points)} points in ${count(found.windows)} windows of ${count(found.metrics)} metrics compared`;
  return (
    <div role="status">
      <p>
        {found.differing === 0 ? "The destination has the same" : `${count(found.differing)} windows differ`}:{" "}
        {compared}.
      </p>
      {found.notes.map((note) => (
        <p key={note}>
          <Faint>{note}</Faint>
        </p>
      ))}
      {found.differences.length > 0 && (
        <TableFrame aria-label="Windows that differ">
          <PlainTable aria-label="Windows that differ">
            <thead>
              <tr>
                <th>metric</th>
                <th>from (UTC)</th>
                <th>to (UTC)</th>
                <th className="figure">points here</th>
                <th className="figure">points there</th>
              </tr>
            </thead>
            <tbody>
              {found.differences.slice(0, 20).map((one) => (
                <tr key={`${one.metric} ${one.from}`}>
                  <td>{one.metric}</td>
                  <td>{minute(one.from)}</td>
                  <td>{minute(one.to)}</td>
                  <td className="figure">{count(one.points_here)}</td>
                  <td className="figure">{count(one.points_there)}</td>
                </tr>
              ))}
            </tbody>
          </PlainTable>
        </TableFrame>
      )}
    </div>
  );
}

/** The batches that the destination refused. */
function Aside({ sink, mayChange }: { sink: SinkInfo; mayChange: boolean }) {
  const queries = useQueryClient();
  const { data: batches = [] } = useQuery(asideQuery(sink.name));
  const act = useMutation({
    mutationFn: (what: () => Promise<unknown>) => what(),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sinks"] }),
  });
  return (
    <>
      <Heading style={{ marginTop: 8 }}>Set-aside batches</Heading>
      {act.error && <Failure error={act.error} />}
      <TableFrame aria-label="Set-aside batches">
        <PlainTable aria-label="Set-aside batches">
          <thead>
            <tr>
              <th className="figure">batch</th>
              <th>set aside (UTC)</th>
              <th className="figure">points</th>
              <th>reason</th>
              <th>actions</th>
            </tr>
          </thead>
          <tbody>
            {batches.map((batch) => (
              <tr key={batch.id}>
                <td className="figure">{batch.id}</td>
                <td>{minute(batch.time)}</td>
                <td className="figure">{count(batch.points)}</td>
                <td style={{ whiteSpace: "normal" }}>{batch.reason}</td>
                <td>
                  <a href={client.asideAddress(sink.name, batch.id)} download={`${sink.name}-${batch.id}.ndjson`}>
                    Download
                  </a>{" "}
                  {mayChange && (
                    <SureButton
                      isLow
                      sure={`Really discard batch ${batch.id}`}
                      onSure={() => act.mutate(() => client.removeAside(sink.name, batch.id))}
                    >
                      Discard
                    </SureButton>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
      {mayChange && (
        <Button $quiet $low onPress={() => act.mutate(() => client.changeSink(sink.name, "resend"))}>
          Send all of them again
        </Button>
      )}
    </>
  );
}
