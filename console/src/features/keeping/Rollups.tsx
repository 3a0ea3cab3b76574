/** Rollup levels of a dataset: how far each is, what it weighs, how it compares with points. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import styled from "styled-components";

import * as client from "../../api/client";
import type { Level, PolicyInfo, Rollups as RollupsOf } from "../../api/types";
import { bytes, count, short } from "../../format/numbers";
import { lasting } from "../../format/times";
import { Allowed } from "../../ui/Allowed";
import { Button, Failure, Faint, Heading, Notice, PlainTable, TableFrame } from "../../ui/parts";
import { SureButton } from "../../ui/SureButton";
import { levelProgress } from "./bands";
import { PolicyForm } from "./PolicyForm";
import { times } from "./policy";

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

export function Rollups({ dataset, rollups }: { dataset: string; rollups: RollupsOf }) {
  const queries = useQueryClient();
  const onSuccess = () => queries.invalidateQueries();
  const fill = useMutation({ mutationFn: (stop: boolean) => client.fillRollups(dataset, stop), onSuccess });
  const drop = useMutation({
    mutationFn: (policy: PolicyInfo) => client.dropRollup(dataset, policy.name, policy.losses.length > 0),
    onSuccess,
  });
  const measure = useMutation({ mutationFn: () => client.measureRollups(dataset) });
  const measured = measure.data?.policies ?? [];
  const levels = rollups.policies.flatMap((policy) => policy.levels);
  const isFilling = levels.some((level) => level.filled < 1);
  return (
    <>
      <Heading>Rollups of {dataset}</Heading>
      {rollups.policies.map((policy) => (
        <Levels
          key={policy.name}
          dataset={dataset}
          policy={policy}
          measured={measured.find((one) => one.name === policy.name)?.levels ?? []}
          onDrop={() => drop.mutate(policy)}
        />
      ))}
      {(isFilling || rollups.fill_stopped) && (
        <p style={{ marginTop: 8 }}>
          {rollups.fill_stopped ? "Backfilling is stopped. " : "Backfilling levels, the newest first. "}
          <Allowed to="define" dataset={dataset}>
            <Button $quiet onPress={() => fill.mutate(!rollups.fill_stopped)}>
              {rollups.fill_stopped ? "Continue" : "Stop"}
            </Button>
          </Allowed>
        </p>
      )}
      {levels.length > 0 && (
        <p style={{ marginTop: 8 }}>
          <Button $quiet onPress={() => measure.mutate()} isDisabled={measure.isPending}>
            {measure.isPending ? "Measuring …" : "Measure the speed-up"}
          </Button>{" "}
          <Faint>{measured.flatMap((policy) => policy.levels).findLast((level) => level.measured)?.measured}</Faint>
        </p>
      )}
      {rollups.failure && <Notice>The last run failed and will be retried: {rollups.failure}</Notice>}
      {[fill, drop, measure].map((one, i) => one.error && <Failure key={i} error={one.error} />)}
      <Allowed to="define" dataset={dataset}>
        <PolicyForm dataset={dataset} policies={rollups.policies} />
      </Allowed>
    </>
  );
}

interface LevelsProps {
  dataset: string;
  policy: PolicyInfo;
  /** The same levels, held against points. */
  measured: readonly Level[];
  onDrop: () => void;
}

function Levels({ dataset, policy, measured, onDrop }: LevelsProps) {
  const { where, zone, lateness = "10m" } = policy.policy;
  return (
    <>
      <p style={{ marginTop: 8 }}>
        <strong>{policy.name}</strong>{" "}
        <Faint>
          {policy.metrics.join(", ")}
          {where && ` where ${where}`}
          {zone && `, days of ${zone}`}; windows wait {lateness} for late points
        </Faint>{" "}
        <Allowed to="define" dataset={dataset}>
          <SureButton
            sure={policy.losses.length > 0 ? "Delete anyway; this data cannot be rebuilt" : "Delete the policy"}
            onSure={onDrop}
          >
            Drop
          </SureButton>
        </Allowed>
      </p>
      <TableFrame aria-label={`Levels of ${policy.name}`}>
        <PlainTable>
          <thead>
            <tr>
              <th>level</th>
              <th>kept</th>
              <th>from (UTC)</th>
              <th>until (UTC)</th>
              <th>progress</th>
              <th className="figure">lag</th>
              <th className="figure">out of date</th>
              <th className="figure">windows</th>
              <th className="figure">on disk</th>
              <th className="figure">smaller</th>
              {measured.length > 0 && <th className="figure">faster</th>}
            </tr>
          </thead>
          <tbody>
            {policy.levels.map((level) => (
              <tr key={level.width}>
                <td>{level.width}</td>
                <td>{level.keep_for ?? "no limit"}</td>
                <td title={level.from ?? ""}>
                  {level.from === null && level.until ? "first point" : minute(level.from)}
                </td>
                <td title={level.until ?? ""}>{minute(level.until)}</td>
                <td>
                  <Bar $share={level.filled} aria-hidden />
                  {levelProgress(level)}
                </td>
                <td className="figure">{lasting(level.lag_seconds)}</td>
                <td className="figure">{count(level.out_of_date)}</td>
                <td className="figure" title={count(level.windows)}>
                  {short(level.windows)}
                </td>
                <td className="figure" title={`${count(level.bytes)} bytes`}>
                  {bytes(level.bytes)}
                </td>
                <td className="figure">{times(level.smaller, "larger")}</td>
                {measured.length > 0 && (
                  <td className="figure">
                    {times(measured.find((one) => one.width === level.width)?.faster ?? null, "slower")}
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
    </>
  );
}
