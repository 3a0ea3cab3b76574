/** The tags of a dataset: rules and values, and what is known of one beside them. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { tagsQuery } from "../../api/queries";
import type { TagInfo } from "../../api/types";
import { count } from "../../format/numbers";
import { PlainTable, TableFrame, Waiting } from "../../ui/parts";
import { Beside, Name } from "./layout";
import { Nothing } from "./Nothing";
import { TagPanel } from "./TagPanel";

export function TagList({ dataset }: { dataset: string }) {
  const { data, error, refetch } = useQuery(tagsQuery(dataset));
  const [shown, setShown] = useState<string | null>(null);
  if (!data) return <Waiting error={error} retry={refetch} />;
  if (data.length === 0) return <Nothing />;
  const open = data.find((tag) => tag.key === shown);
  return (
    <Beside $open={open !== undefined}>
      <TableFrame aria-label="Tags">
        <PlainTable aria-label="Tags">
          <thead>
            <tr>
              <th>tag</th>
              <th>definition</th>
              <th className="figure">distinct values</th>
              {!open && <th>values (series)</th>}
            </tr>
          </thead>
          <tbody>
            {data.map((tag) => (
              <tr key={tag.key} aria-selected={tag.key === open?.key}>
                <td>
                  <Name onPress={() => setShown(tag.key)}>{tag.key}</Name>
                </td>
                <td style={{ whiteSpace: "normal" }}>{tagRule(tag)}</td>
                <td className="figure">{count(tag.values.length)}</td>
                {!open && <td style={{ whiteSpace: "normal" }}>{tagValues(tag)}</td>}
              </tr>
            ))}
          </tbody>
        </PlainTable>
      </TableFrame>
      {open && <TagPanel key={open.key} dataset={dataset} tag={open} close={() => setShown(null)} renamed={setShown} />}
    </Beside>
  );
}

function tagRule({ definition, old_keys }: TagInfo): string {
  const rules = [
    definition?.description,
    definition?.required && "every series carries it",
    definition?.allowed && definition.allowed.length > 0 && `one of ${definition.allowed.length} values`,
    definition?.pattern && `like ${definition.pattern}`,
    definition?.max_values && `at most ${count(definition.max_values)} values`,
    old_keys.length > 0 && `was called ${old_keys.join(", ")}`,
  ];
  return rules.filter(Boolean).join("; ");
}

const MOST_VALUES = 40;

function tagValues({ values }: TagInfo): string {
  const shown = values.slice(0, MOST_VALUES).map(({ value, series }) => `${value} (${count(series)})`);
  return shown.join(", ") + (values.length > MOST_VALUES ? ` and ${count(values.length - MOST_VALUES)} more` : "");
}
