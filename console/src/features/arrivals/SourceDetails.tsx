/** One source: parts, series in trouble, rejects, statement, log, and definition. */
import { useQuery } from "@tanstack/react-query";

import { sourceEventsQuery } from "../../api/queries";
import type { SourceInfo, SourcePart } from "../../api/types";
import { count } from "../../format/numbers";
import { troubleText } from "../../format/trouble";
import { Code, Faint, Heading } from "../../ui/parts";
import { type Draft, tagText } from "../definitions/definition";
import { LogAndDefinition } from "../definitions/LogAndDefinition";

/** The name of a part, with the number of its rows or nodes: `readings, 12 rows read`. */
export function titleOf({ name, rows, nodes }: SourcePart): string {
  if (rows !== null) return `${name}, ${rows === 1 ? "1 row" : `${count(rows)} rows`} read`;
  return nodes === null ? name : `${name}, ${nodes === 1 ? "1 node" : `${count(nodes)} nodes`}`;
}

/** The result of a part: its points, its error, or both. */
export function resultOf({ points, error }: SourcePart): string {
  if (error === null) return `${count(points)} points`;
  return points > 0 ? `${count(points)} points, ${error}` : error;
}

export function SourceDetails({ source, edit }: { source: SourceInfo; edit: ((draft: Draft) => void) | undefined }) {
  const { data: events = [] } = useQuery(sourceEventsQuery(source.name));
  return (
    <>
      {source.parts.map((part) => (
        <p key={part.name}>
          {titleOf(part)}: {resultOf(part)} <Faint>{Math.round(part.seconds * 1000)} ms in the latest round</Faint>
        </p>
      ))}
      <p>
        {count(source.series.watched)} series{source.series.is_full ? ", and more that are not watched" : ""}
      </p>
      {source.series.troubled.map((series) => (
        <p key={`${series.metric} ${tagText(series.tags)}`}>
          {series.metric} {tagText(series.tags)}: {troubleText(series)}
        </p>
      ))}
      {source.rejects.map((reject) => (
        <div key={reject.cause}>
          <p>
            {count(reject.count)} rejected: {reject.text}
          </p>
          {reject.samples.map((sample) => (
            <p key={sample}>
              <Faint>{sample}</Faint>
            </p>
          ))}
        </div>
      ))}
      {source.sent !== null && (
        <>
          <Heading style={{ marginTop: 8 }}>Statement</Heading>
          <Code>{source.sent}</Code>
        </>
      )}
      <LogAndDefinition name={source.name} definition={source.definition} events={events} edit={edit} />
    </>
  );
}
