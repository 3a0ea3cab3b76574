/** The end of the details of a source or a sink: its latest events, and its definition. */
import type { FlowEvent } from "../../api/types";
import { count } from "../../format/numbers";
import { Button, Code, Faint, Heading } from "../../ui/parts";
import type { Draft } from "./definition";

interface Props {
  name: string;
  definition: unknown;
  events: readonly FlowEvent[];
  /** Puts the definition into the form; undefined if the caller may not change it. */
  edit: ((draft: Draft) => void) | undefined;
}

export function LogAndDefinition({ name, definition, events, edit }: Props) {
  const text = JSON.stringify(definition, null, 2);
  return (
    <>
      <Heading style={{ marginTop: 8 }}>Log</Heading>
      {events.slice(0, 20).map((event) => (
        <p key={`${event.first} ${event.text}`}>
          <Faint>{event.last.slice(0, 19).replace("T", " ")}</Faint> {event.text}
          {event.count > 1 && <Faint> ({count(event.count)} times)</Faint>}
        </p>
      ))}
      <Heading style={{ marginTop: 8 }}>Definition</Heading>
      <Code>{text}</Code>
      {edit && (
        <Button $quiet $low onPress={() => edit({ name, text })}>
          Edit below
        </Button>
      )}
    </>
  );
}
