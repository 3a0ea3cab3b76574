/** The form of a source. */
import { useQuery } from "@tanstack/react-query";

import * as client from "../../api/client";
import { sourceExamplesQuery } from "../../api/queries";
import type { DefinedFlow, SourceTrial } from "../../api/types";
import { count } from "../../format/numbers";
import type { Draft } from "../definitions/definition";
import { DefinitionForm } from "../definitions/DefinitionForm";
import { resultOf, titleOf } from "./SourceDetails";
import { fieldsOf } from "./sourceFields";

const example = (dataset: string): string => `kind = "poll"
dataset = "${dataset}"
every = "10s"
targets = [
  { url = "http://127.0.0.1:9100/metrics" },
]
`;

function done(difference: DefinedFlow["difference"]): string {
  switch (difference) {
    case "new":
      return "Added and started.";
    case "changed":
      return "Changed, and started again.";
    case "none":
      return "The same already: nothing was changed.";
  }
}

/** An example to start from. */
export const firstDraft = (dataset: string): Draft => ({ name: "", text: example(dataset) });

interface Props {
  draft: Draft;
  change: (draft: Draft) => void;
  dataset: string;
}

export function SourceForm({ draft, change, dataset }: Props) {
  const { data: examples = [] } = useQuery(sourceExamplesQuery);
  return (
    <DefinitionForm
      noun="source"
      draft={draft}
      change={change}
      dataset={dataset}
      examples={examples}
      fieldsOf={fieldsOf}
      trying="Try one round"
      attempt={client.trySource}
      show={(trial) => <Trial trial={trial} />}
      store={client.putSource}
      done={done}
    />
  );
}

function Trial({ trial }: { trial: SourceTrial }) {
  return (
    <>
      <p>
        {count(trial.points)} points would be stored, {count(trial.rejected)} rejected; nothing was stored.
      </p>
      {trial.parts.map((part) => (
        <p key={part.name}>
          {titleOf(part)}: {resultOf(part)}
        </p>
      ))}
      {trial.sample.slice(0, 10).map((point, at) => (
        <p key={at}>
          <code>
            {point.metric} {Object.entries(point.tags).map(([key, value]) => `${key}=${value} `)}
            {String(point.value)}
          </code>
        </p>
      ))}
    </>
  );
}
