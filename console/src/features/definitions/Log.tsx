/** The latest events of a source or a sink. */
import type { FlowEvent } from "../../api/types";
import { count } from "../../format/numbers";
import { Faint } from "../../ui/parts";

export function Log({ events }: { events: readonly FlowEvent[] }) {
  return events.slice(0, 20).map((event) => (
    <p key={`${event.first} ${event.text}`}>
      <Faint>{event.last.slice(0, 19).replace("T", " ")}</Faint> {event.text}
      {event.count > 1 && <Faint> ({count(event.count)} times)</Faint>}
    </p>
  ));
}
