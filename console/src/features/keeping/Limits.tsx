/** Limits of one place: what holds and where it comes from, and a change of it with what that would drop. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import * as client from "../../api/client";
import type { Place, RetentionChange } from "../../api/types";
import { bytes, count } from "../../format/numbers";
import { FormRow, TextInput } from "../../ui/fields";
import { Button, Failure, Faint, Notice } from "../../ui/parts";

const day = (time: string): string => time.slice(0, 10);

/** What was typed, as it is sent: `none` and nothing at all say that there is no limit. */
const said = (text: string, before: string | null): string | null | undefined => {
  const trimmed = text.trim();
  if (trimmed === (before ?? "")) return undefined;
  return trimmed === "" || trimmed === "none" ? null : trimmed;
};

export function Limits({ place, hasFile }: { place: Place; hasFile: boolean }) {
  const queries = useQueryClient();
  const [isOpen, setOpen] = useState(false);
  const [keepFor, setKeepFor] = useState(place.keep_for.limit ?? "");
  const [keepUnder, setKeepUnder] = useState(place.keep_under.limit ?? "");
  const order = (preview: boolean) =>
    client.setRetention({
      place: place.name,
      say: {
        keep_for: said(keepFor, place.keep_for.limit),
        keep_under: said(keepUnder, place.keep_under.limit),
      },
      preview,
    });
  const look = useMutation({ mutationFn: () => order(true) });
  const done = () => {
    setOpen(false);
    look.reset();
    return queries.invalidateQueries();
  };
  const apply = useMutation({ mutationFn: () => order(false), onSuccess: done });
  const reset = useMutation({ mutationFn: () => client.resetRetention(place.name), onSuccess: done });
  const change = (set: (text: string) => void) => (text: string) => {
    set(text);
    // What was looked at is no longer what would be done.
    look.reset();
  };
  const hasLive = place.live.keep_for !== undefined || place.live.keep_under !== undefined;
  return (
    <>
      <p>
        keep for: <strong>{place.keep_for.told}</strong> · keep under: <strong>{place.keep_under.told}</strong>{" "}
        <Button $quiet onPress={() => setOpen(!isOpen)}>
          {isOpen ? "Close" : "Change"}
        </Button>{" "}
        {hasLive && hasFile && (
          <Button $quiet onPress={() => reset.mutate()}>
            Back to the file
          </Button>
        )}
      </p>
      {isOpen && (
        <>
          <FormRow>
            <TextInput
              label="keep for"
              value={keepFor}
              onChange={change(setKeepFor)}
              placeholder="90d, empty: no limit"
            />
            <TextInput label="keep under" value={keepUnder} onChange={change(setKeepUnder)} placeholder="20GB" />
            <Button $quiet onPress={() => look.mutate()}>
              See what would go
            </Button>
            <Button onPress={() => apply.mutate()} isDisabled={!look.data}>
              Apply
            </Button>
          </FormRow>
          {look.data && <Change change={look.data} />}
        </>
      )}
      {[look, apply, reset].map((one, i) => one.error && <Failure key={i} error={one.error} />)}
    </>
  );
}

function Change({ change: { after, goes } }: { change: RetentionChange }) {
  const rest = after.outlook?.at_rest;
  const from = after.outlook?.at_rest_from;
  return (
    <Notice>
      {goes.parts.length === 0 ? (
        <p>Nothing would go now.</p>
      ) : (
        <p>
          <strong>
            {count(goes.points)} points, {bytes(goes.bytes)}
          </strong>{" "}
          of {goes.metrics.length} metrics would go now
          {goes.span && `, from ${day(goes.span[0])} to ${day(goes.span[1])}`}:{" "}
          {goes.parts
            .map((part) => `${part.what} (${part.why}${part.for_good ? ", for good" : ", to the bin"})`)
            .join(", ")}
        </p>
      )}
      <p>
        {rest === null || rest === undefined
          ? "Without a limit it grows without end."
          : `At rest it will weigh ${bytes(rest)}${from ? `, from ${day(from)} on` : ""}.`}{" "}
        <Faint>{after.outlook?.arithmetic}</Faint>
      </p>
    </Notice>
  );
}
