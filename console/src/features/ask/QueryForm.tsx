/** The query as fields, always in step with its text: what the fields cannot say is shown as it is written. */
import styled from "styled-components";

import type { MetricInfo, QueryTree, ShowTree, TagInfo } from "../../api/types";
import { Chooser } from "../../ui/Chooser";
import { Button, Faint, Toggle } from "../../ui/parts";
import { REDUCERS } from "./language";
import { expression, simple, SIGNS, type Sign, type SimpleShow } from "./tree";

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 6px 10px;
  align-items: center;
  padding: 6px 0;
  & + & {
    border-top: 1px solid ${({ theme }) => theme.rule};
  }
  code {
    font-family: ui-monospace, "DejaVu Sans Mono", monospace;
  }
`;

interface Props {
  tree: QueryTree;
  /** Lines of the canonical text, for what is only written. */
  written: string[];
  metrics: MetricInfo[];
  tags: TagInfo[];
  onChange: (tree: QueryTree) => void;
}

export function QueryForm({ tree, written, metrics, tags, onChange }: Props) {
  const put = (at: number, show: ShowTree) =>
    onChange({ ...tree, shows: tree.shows.map((one, i) => (i === at ? show : one)) });
  const remove = (at: number) => onChange({ ...tree, shows: tree.shows.filter((_, i) => i !== at) });
  const add = () => {
    const last = tree.shows.at(-1);
    const metric = (last && simple(last)?.metric) ?? metrics[0]?.name;
    if (metric === undefined) return;
    onChange({
      ...tree,
      shows: [...tree.shows, { expr: expression({ reducer: "max", metric, tests: [], by: null }) }],
    });
  };
  const lines = written.filter((line) => line.startsWith("show "));
  return (
    <div role="group" aria-label="Query form">
      {(tree.lets ?? []).map(({ name }, i) => (
        <Row key={name}>
          <Faint>named</Faint>
          <code>{written[i]}</code>
        </Row>
      ))}
      {tree.shows.map((show, i) => {
        const fields = simple(show);
        return (
          // oxlint-disable-next-line react/no-array-index-key -- shows have no other identity than their order
          <Row key={i} role="group" aria-label={`Show ${i + 1}`}>
            {fields === null ? (
              <>
                <Faint>text only</Faint>
                <code>{lines[i]}</code>
              </>
            ) : (
              <ShowFields
                fields={fields}
                metrics={metrics}
                tags={tags}
                onChange={(changed) => put(i, { ...show, expr: expression(changed) })}
              />
            )}
            {tree.shows.length > 1 && (
              <Button $quiet onPress={() => remove(i)} aria-label={`Remove show ${i + 1}`}>
                Remove
              </Button>
            )}
          </Row>
        );
      })}
      <Row>
        <Button $quiet onPress={add}>
          Add a series
        </Button>
      </Row>
    </div>
  );
}

interface FieldProps {
  fields: SimpleShow;
  metrics: MetricInfo[];
  tags: TagInfo[];
  onChange: (fields: SimpleShow) => void;
}

function ShowFields({ fields, metrics, tags, onChange }: FieldProps) {
  const { reducer, metric, tests, by } = fields;
  const known = metrics.find(({ name }) => name === metric);
  const keys = known?.tags ?? [];
  const putTest = (at: number, changed: Partial<SimpleShow["tests"][number]>) =>
    onChange({ ...fields, tests: tests.map((test, i) => (i === at ? { ...test, ...changed } : test)) });
  const grouped = Array.isArray(by) ? by : [];
  const toggle = (key: string, on: boolean) => {
    const changed = on ? [...grouped, key] : grouped.filter((one) => one !== key);
    onChange({ ...fields, by: changed.length > 0 ? changed : null });
  };
  return (
    <>
      <Chooser
        label="show"
        value={reducer}
        choices={REDUCERS}
        widthPx={96}
        onChange={(changed) => onChange({ ...fields, reducer: changed })}
      />
      <Chooser
        label="of"
        value={metric}
        choices={metrics.map(({ name }) => name)}
        widthPx={140}
        onChange={(changed) => onChange({ ...fields, metric: changed })}
      />
      {tests.map(({ tag, sign, text }, i) => (
        // oxlint-disable-next-line react/no-array-index-key -- conditions have no other identity than their order
        <span key={i} style={{ display: "flex", gap: 4, flexWrap: "wrap" }}>
          <Chooser
            label={i === 0 ? "where" : "and"}
            value={tag}
            choices={keys}
            widthPx={80}
            onChange={(changed) => putTest(i, { tag: changed })}
          />
          <Chooser
            label={`How ${tag} is compared`}
            hidden
            value={sign}
            choices={SIGNS}
            widthPx={70}
            onChange={(changed) => putTest(i, { sign: asSign(changed) })}
          />
          <Chooser
            label={`Value of ${tag}`}
            hidden
            value={text}
            choices={valuesOf(tags, tag)}
            widthPx={110}
            onChange={(changed) => putTest(i, { text: changed })}
          />
          <Button
            $quiet
            aria-label={`Remove the condition on ${tag}`}
            onPress={() => onChange({ ...fields, tests: tests.filter((_, at) => at !== i) })}
          >
            ×
          </Button>
        </span>
      ))}
      {keys.length > 0 && (
        <Button
          $quiet
          onPress={() => {
            const tag = keys.find((key) => !tests.some((test) => test.tag === key)) ?? keys[0] ?? "";
            onChange({ ...fields, tests: [...tests, { tag, sign: "=", text: valuesOf(tags, tag)[0] ?? "" }] });
          }}
        >
          {tests.length === 0 ? "where …" : "and …"}
        </Button>
      )}
      {keys.length > 0 && <Faint>by</Faint>}
      {keys.map((key) => (
        <Toggle key={key} isSelected={grouped.includes(key)} onChange={(on) => toggle(key, on)}>
          {key}
        </Toggle>
      ))}
      <Toggle isSelected={by === "overall"} onChange={(on) => onChange({ ...fields, by: on ? "overall" : null })}>
        overall
      </Toggle>
    </>
  );
}

const asSign = (text: string): Sign => SIGNS.find((sign) => sign === text) ?? "=";

const valuesOf = (tags: TagInfo[], key: string): string[] =>
  tags.find((tag) => tag.key === key)?.values.map(({ value }) => value) ?? [];
