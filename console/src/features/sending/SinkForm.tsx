/** The form of a sink. */
import { useQuery } from "@tanstack/react-query";

import * as client from "../../api/client";
import { sinkExamplesQuery } from "../../api/queries";
import type { DefinedFlow, SinkTrial } from "../../api/types";
import { count } from "../../format/numbers";
import { Code } from "../../ui/parts";
import type { Draft } from "../definitions/definition";
import { DefinitionForm } from "../definitions/DefinitionForm";
import { fieldsOf } from "./sinkFields";

const example = (dataset: string): string => `kind = "forward"
dataset = "${dataset}"
url = "http://127.0.0.1:7431"
tags = { origin = "north" }
`;

/** An example to start from. */
export const firstDraft = (dataset: string): Draft => ({ name: "", text: example(dataset) });

function done(difference: DefinedFlow["difference"]): string {
  switch (difference) {
    case "new":
      return "Added and started.";
    case "changed":
      return "Changed. It continues where it was.";
    case "none":
      return "The same already: nothing was changed.";
  }
}

interface Props {
  draft: Draft;
  change: (draft: Draft) => void;
  dataset: string;
}

export function SinkForm({ draft, change, dataset }: Props) {
  const { data: examples = [] } = useQuery(sinkExamplesQuery);
  return (
    <DefinitionForm
      noun="sink"
      draft={draft}
      change={change}
      dataset={dataset}
      examples={examples}
      fieldsOf={fieldsOf}
      trying="Show what would be sent"
      attempt={client.trySink}
      show={(trial) => <Trial trial={trial} />}
      store={client.putSink}
      done={done}
    />
  );
}

function Trial({ trial }: { trial: SinkTrial }) {
  return (
    <>
      <p>
        {trial.series === 1 ? "1 series" : `${count(trial.series)} series`} would be sent; nothing was sent.
        {trial.answer !== null && ` ${sentence(trial.answer)}`}
      </p>
      <Code>{trial.rows}</Code>
    </>
  );
}

const sentence = (text: string): string => `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;
