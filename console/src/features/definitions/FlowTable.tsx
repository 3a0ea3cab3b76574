/** The table of the sources or of the sinks: a row for each, with actions, and its details below it. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Fragment, type ReactNode, useState } from "react";

import { useMay } from "../../api/caller";
import { Button, Failure, PlainTable, TableFrame } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";

interface Flow {
  name: string;
  state: string;
}

export interface FlowColumn<F> {
  name: string;
  cell: (flow: F) => ReactNode;
  title?: (flow: F) => string;
  isFigure?: boolean;
  wraps?: boolean;
}

/** Calls that change a source or a sink, by its name. */
export interface FlowCalls {
  /** Key of the query that lists them. */
  key: string;
  pause: (name: string) => Promise<unknown>;
  resume: (name: string) => Promise<unknown>;
  remove: (name: string) => Promise<unknown>;
  /** Begins the next round at once. */
  run?: (name: string) => Promise<unknown>;
}

interface Props<F> {
  label: string;
  flows: readonly F[];
  columns: readonly FlowColumn<F>[];
  calls: FlowCalls;
  details: (flow: F) => ReactNode;
}

export function FlowTable<F extends Flow>({ label, flows, columns, calls, details }: Props<F>) {
  const may = useMay();
  const [open, setOpen] = useState<string | null>(null);
  return (
    <TableFrame aria-label={label}>
      <PlainTable aria-label={label}>
        <thead>
          <tr>
            {columns.map(({ name, isFigure }) => (
              <th key={name} className={isFigure ? "figure" : undefined}>
                {name}
              </th>
            ))}
            <th>actions</th>
          </tr>
        </thead>
        <tbody>
          {flows.map((flow) => {
            const isOpen = open === flow.name;
            return (
              <Fragment key={flow.name}>
                <tr>
                  {columns.map(({ name, cell, title, isFigure, wraps }) => (
                    <td
                      key={name}
                      className={isFigure ? "figure" : undefined}
                      style={wraps ? { whiteSpace: "normal", overflowWrap: "anywhere" } : undefined}
                      title={title?.(flow)}
                    >
                      {cell(flow)}
                    </td>
                  ))}
                  <td>
                    <Button
                      $quiet
                      $low
                      aria-label={`${isOpen ? "Close details" : "Details"} of ${flow.name}`}
                      onPress={() => setOpen(isOpen ? null : flow.name)}
                    >
                      {isOpen ? "Close" : "Details"}
                    </Button>{" "}
                    {may("admin") && <Actions flow={flow} calls={calls} />}
                  </td>
                </tr>
                {isOpen && (
                  <tr>
                    <td colSpan={columns.length + 1} style={{ whiteSpace: "normal" }}>
                      {details(flow)}
                    </td>
                  </tr>
                )}
              </Fragment>
            );
          })}
        </tbody>
      </PlainTable>
    </TableFrame>
  );
}

function Actions({ flow: { name, state }, calls }: { flow: Flow; calls: FlowCalls }) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: (call: (name: string) => Promise<unknown>) => call(name),
    onSuccess: () => queries.invalidateQueries({ queryKey: [calls.key] }),
  });
  if (act.error) return <Failure error={act.error} />;
  const { run } = calls;
  const isPaused = state === "paused";
  const word = isPaused ? "Resume" : "Pause";
  return (
    <>
      {run && !isPaused && (
        <>
          <Button $quiet $low onPress={() => act.mutate(run)} aria-label={`Run now: ${name}`}>
            Run now
          </Button>{" "}
        </>
      )}
      <Button
        $quiet
        $low
        onPress={() => act.mutate(isPaused ? calls.resume : calls.pause)}
        aria-label={`${word} ${name}`}
      >
        {word}
      </Button>{" "}
      <SureButton isLow sure={`Really remove ${name}`} onSure={() => act.mutate(calls.remove)}>
        Remove
      </SureButton>
    </>
  );
}
