/** Creates or changes a rollup policy, with a preview. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import * as client from "../../api/client";
import type { LevelPreview, PolicyInfo } from "../../api/types";
import { bytes, count } from "../../format/numbers";
import { FormRow, TextInput } from "../../ui/fields";
import { Button, Failure, Notice, PlainTable, TableFrame } from "../../ui/parts";
import { type Draft, draftOf, EMPTY, policyOf, times } from "./policy";

export function PolicyForm({ dataset, policies }: { dataset: string; policies: readonly PolicyInfo[] }) {
  const queries = useQueryClient();
  const [draft, setDraft] = useState<Draft | null>(null);
  const look = useMutation({
    mutationFn: (wanted: Draft) => client.previewRollup(dataset, wanted.name, policyOf(wanted)),
  });
  const apply = useMutation({
    mutationFn: (wanted: Draft) =>
      client.putRollup(dataset, wanted.name, policyOf(wanted), (look.data?.losses.length ?? 0) > 0),
    onSuccess: () => {
      turnTo(null);
      return queries.invalidateQueries();
    },
  });
  const turnTo = (next: Draft | null) => {
    setDraft(next);
    // What was looked at is no longer what would be made.
    look.reset();
    apply.reset();
  };
  return (
    <div style={{ marginTop: 8 }}>
      <FormRow>
        {policies.map(({ name, policy }) => (
          <Button $quiet key={name} onPress={() => turnTo(draftOf(name, policy))}>
            Change {name}
          </Button>
        ))}
        <Button
          $quiet
          onPress={() => turnTo(policies.length === 0 ? EMPTY : { ...EMPTY, name: `policy-${policies.length + 1}` })}
        >
          {policies.length === 0 ? "Create a policy" : "Create another policy"}
        </Button>
        {draft && (
          <Button $quiet onPress={() => turnTo(null)}>
            Close
          </Button>
        )}
      </FormRow>
      {draft && (
        <>
          <Fields draft={draft} onChange={turnTo} />
          <FormRow>
            <Button $quiet onPress={() => look.mutate(draft)}>
              Preview
            </Button>
            <Button onPress={() => apply.mutate(draft)} isDisabled={!look.data}>
              Apply
            </Button>
          </FormRow>
          {look.data && (
            <Notice>
              <p>
                {count(look.data.series)} series of {look.data.metrics.join(", ") || "no metric"}
              </p>
              <Preview levels={look.data.levels} />
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

function Preview({ levels }: { levels: readonly LevelPreview[] }) {
  return (
    <TableFrame aria-label="Preview of the levels">
      <PlainTable>
        <thead>
          <tr>
            <th>level</th>
            <th>kept</th>
            <th className="figure">windows per day</th>
            <th className="figure">points each</th>
            <th className="figure">per day</th>
            <th className="figure">smaller than points</th>
            <th className="figure">final size</th>
          </tr>
        </thead>
        <tbody>
          {levels.map((level) => (
            <tr key={level.width}>
              <td>{level.width}</td>
              <td>{level.keep_for ?? "no limit"}</td>
              <td className="figure">{count(level.windows_a_day)}</td>
              <td className="figure">{level.points_each === null ? "–" : count(Math.max(1, level.points_each))}</td>
              <td className="figure">{bytes(level.bytes_a_day)}</td>
              <td className="figure">{times(level.smaller, "larger")}</td>
              <td className="figure">
                {bytes(level.at_rest)}
                {level.keep_for === null && " per year"}
              </td>
            </tr>
          ))}
        </tbody>
      </PlainTable>
    </TableFrame>
  );
}

const FIELDS: { key: keyof Draft; label: string; placeholder?: string }[] = [
  { key: "name", label: "name" },
  { key: "levels", label: "levels, as width=keep_for, the finest first" },
  { key: "metrics", label: "metrics (* matches any text)", placeholder: "all" },
  { key: "where", label: "series where", placeholder: "all" },
  { key: "zone", label: "zone of days", placeholder: "that of the dataset" },
  { key: "lateness", label: "wait for late points", placeholder: "10m" },
];

function Fields({ draft, onChange }: { draft: Draft; onChange: (draft: Draft) => void }) {
  return (
    <FormRow>
      {FIELDS.map(({ key, label, placeholder }) => (
        <TextInput
          key={key}
          label={label}
          value={draft[key]}
          onChange={(text) => onChange({ ...draft, [key]: text })}
          {...(placeholder !== undefined && { placeholder })}
        />
      ))}
    </FormRow>
  );
}
