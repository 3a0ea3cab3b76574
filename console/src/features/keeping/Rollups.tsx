/** Rollup levels of a dataset: how far each is, what it weighs; policies made, changed and dropped. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";

import * as client from "../../api/client";
import type { PolicyInfo, Rollups as RollupsOf } from "../../api/types";
import { bytes, count, short } from "../../format/numbers";
import { FormRow, TextInput } from "../../ui/fields";
import { Button, Failure, Faint, Heading, Notice, PlainTable, TableFrame } from "../../ui/parts";
import { readLevels, writeLevels } from "./scale";

const Bar = styled.span<{ $share: number }>`
  display: inline-block;
  width: 80px;
  height: 8px;
  margin-right: 8px;
  border: 1px solid ${({ theme }) => theme.rule};
  background: linear-gradient(
    to right,
    ${({ theme, $share }) => `${theme.water} ${$share * 100}%, transparent ${$share * 100}%`}
  );
`;

const minute = (time: string | null): string => (time === null ? "–" : time.slice(0, 16).replace("T", " "));

/** How many times smaller than points, or what it is instead. */
function smaller(ratio: number | null): string {
  if (ratio === null) return "–";
  return ratio < 0.95 ? `no, ${(1 / ratio).toFixed(1)} times larger` : `${ratio.toFixed(1)} times`;
}

function lag(seconds: number): string {
  if (seconds < 120) return `${Math.round(seconds)} s`;
  if (seconds < 7_200) return `${Math.round(seconds / 60)} min`;
  return seconds < 172_800 ? `${Math.round(seconds / 3_600)} h` : `${Math.round(seconds / 86_400)} d`;
}

export function Rollups({ dataset, rollups }: { dataset: string; rollups: RollupsOf }) {
  const queries = useQueryClient();
  const onSuccess = () => queries.invalidateQueries();
  const fill = useMutation({ mutationFn: (stop: boolean) => client.fillRollups(dataset, stop), onSuccess });
  const drop = useMutation({ mutationFn: (name: string) => client.dropRollup(dataset, name), onSuccess });
  const isFilling = rollups.policies.some((policy) => policy.levels.some((level) => level.filled < 1));
  return (
    <>
      <Heading>Rollups of {dataset}</Heading>
      {rollups.policies.map((policy) => (
        <Levels key={policy.name} policy={policy} onDrop={() => drop.mutate(policy.name)} />
      ))}
      {(isFilling || rollups.fill_stopped) && (
        <p style={{ marginTop: 8 }}>
          {rollups.fill_stopped
            ? "Filling backwards is stopped. "
            : "Levels are being filled backwards, the newest first. "}
          <Button $quiet onPress={() => fill.mutate(!rollups.fill_stopped)}>
            {rollups.fill_stopped ? "Go on" : "Stop"}
          </Button>
        </p>
      )}
      {rollups.failure && <Notice>The last turn failed, and is tried again: {rollups.failure}</Notice>}
      {[fill, drop].map((one, i) => one.error && <Failure key={i} error={one.error} />)}
      <PolicyForm dataset={dataset} policies={rollups.policies} />
    </>
  );
}

function Levels({ policy, onDrop }: { policy: PolicyInfo; onDrop: () => void }) {
  const [isSure, setSure] = useState(false);
  return (
    <>
      <p style={{ marginTop: 8 }}>
        <strong>{policy.name}</strong> <Faint>{policy.metrics.join(", ")}</Faint>{" "}
        <Button $quiet onPress={() => (isSure ? onDrop() : setSure(true))} onBlur={() => setSure(false)}>
          {isSure ? "Really drop it" : "Drop"}
        </Button>
      </p>
      <TableFrame tabIndex={0} role="region" aria-label={`Levels of ${policy.name}`}>
        <PlainTable>
          <thead>
            <tr>
              <th>level</th>
              <th>kept</th>
              <th>stands for points from (UTC)</th>
              <th>until (UTC)</th>
              <th>filled</th>
              <th className="figure">lag</th>
              <th className="figure">out of date</th>
              <th className="figure">windows</th>
              <th className="figure">on disk</th>
              <th className="figure">smaller</th>
            </tr>
          </thead>
          <tbody>
            {policy.levels.map((level) => (
              <tr key={level.width}>
                <td>{level.width}</td>
                <td>{level.keep_for ?? "for ever"}</td>
                <td title={level.from ?? ""}>
                  {level.from === null && level.until ? "the first" : minute(level.from)}
                </td>
                <td title={level.until ?? ""}>{minute(level.until)}</td>
                <td>
                  <Bar $share={level.filled} aria-hidden />
                  {Math.round(level.filled * 100)}%
                </td>
                <td className="figure">{lag(level.lag_seconds)}</td>
                <td className="figure">{count(level.out_of_date)}</td>
                <td className="figure" title={count(level.windows)}>
                  {short(level.windows)}
                </td>
                <td className="figure">{bytes(level.bytes)}</td>
                <td className="figure">{smaller(level.smaller)}</td>
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
    </>
  );
}

function PolicyForm({ dataset, policies }: { dataset: string; policies: readonly PolicyInfo[] }) {
  const queries = useQueryClient();
  const [isOpen, setOpen] = useState(false);
  const first = policies[0];
  const [name, setName] = useState(first?.name ?? "default");
  const [levels, setLevels] = useState(first ? writeLevels(first.policy.levels) : "5m=90d 1h=2y 1d");
  const [metrics, setMetrics] = useState(first?.policy.metrics?.join(" ") ?? "");
  const policy = () => ({
    ...policies.find((one) => one.name === name)?.policy,
    metrics: metrics.split(/\s+/).filter((part) => part !== ""),
    levels: readLevels(levels),
  });
  const look = useMutation({ mutationFn: () => client.previewRollup(dataset, name, policy()) });
  const apply = useMutation({
    mutationFn: () => client.putRollup(dataset, name, policy(), (look.data?.losses.length ?? 0) > 0),
    onSuccess: () => {
      setOpen(false);
      look.reset();
      return queries.invalidateQueries();
    },
  });
  const change = (set: (text: string) => void) => (text: string) => {
    set(text);
    look.reset();
  };
  return (
    <div style={{ marginTop: 8 }}>
      <Button $quiet onPress={() => setOpen(!isOpen)}>
        {isOpen ? "Close" : policies.length === 0 ? "Make a policy" : "Change or add a policy"}
      </Button>
      {isOpen && (
        <>
          <FormRow>
            <TextInput label="name" value={name} onChange={change(setName)} />
            <TextInput label="levels, as width=kept, the finest first" value={levels} onChange={change(setLevels)} />
            <TextInput
              label="metrics (* for any letters)"
              value={metrics}
              onChange={change(setMetrics)}
              placeholder="all"
            />
            <Button $quiet onPress={() => look.mutate()}>
              See what it makes
            </Button>
            <Button onPress={() => apply.mutate()} isDisabled={!look.data}>
              Apply
            </Button>
          </FormRow>
          {look.data && (
            <Notice>
              <p>
                {count(look.data.series)} series of {look.data.metrics.join(", ") || "no metric"}
              </p>
              {look.data.levels.map((level) => (
                <p key={level.width}>
                  {level.width}: {count(level.windows_a_day)} windows a day, about {bytes(level.bytes_a_day)} a day,
                  about {bytes(level.at_rest)}{" "}
                  {level.keep_for === null ? "a year, kept for ever" : `at rest, kept for ${level.keep_for}`}
                </p>
              ))}
              {look.data.losses.map((loss) => (
                <p key={loss}>
                  <strong>{loss}</strong>
                </p>
              ))}
            </Notice>
          )}
          {[look, apply].map((one, i) => one.error && <Failure key={i} error={one.error} />)}
        </>
      )}
    </div>
  );
}
