/** Limits of one place: what holds and where it comes from, and a change of it with what that would drop. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import * as client from "../../api/client";
import type { Place, RetentionChange, Said } from "../../api/types";
import { bytes, count } from "../../format/numbers";
import { day } from "../../format/times";
import { FormRow, TextInput } from "../../ui/fields";
import { Button, Failure, Faint, Notice } from "../../ui/parts";

/** What was typed, as it is sent: `none` and nothing at all say that there is no limit. */
const said = (text: string, before: string | null): string | null | undefined => {
  const trimmed = text.trim();
  if (trimmed === (before ?? "")) return undefined;
  return trimmed === "" || trimmed === "none" ? null : trimmed;
};

interface Props {
  place: Place;
  hasFile: boolean;
  /** Whether the form is there from the beginning. */
  isOpen?: boolean;
}

/** A change: something said of the place, or a return to what the configuration file says. */
type Way = "say" | "reset";

export function Limits({ place, hasFile, isOpen = false }: Props) {
  const queries = useQueryClient();
  const [way, setWay] = useState<Way | null>(isOpen ? "say" : null);
  const [keepFor, setKeepFor] = useState(place.keep_for.limit ?? "");
  const [keepUnder, setKeepUnder] = useState(place.keep_under.limit ?? "");
  const say: Said = {
    keep_for: said(keepFor, place.keep_for.limit),
    keep_under: said(keepUnder, place.keep_under.limit),
  };
  const order = (change: Way, preview: boolean) =>
    client.setRetention({ place: place.name, say: change === "say" ? say : {}, reset: change === "reset", preview });
  const look = useMutation({ mutationFn: (change: Way) => order(change, true) });
  const apply = useMutation({
    mutationFn: (change: Way) => order(change, false),
    onSuccess: () => {
      setWay(isOpen ? "say" : null);
      look.reset();
      return queries.invalidateQueries();
    },
  });
  const turnTo = (next: Way | null) => {
    setWay(next);
    look.reset();
    if (next === "reset") look.mutate(next);
  };
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
        {!isOpen && (
          <Button $quiet onPress={() => turnTo(way === null ? "say" : null)}>
            {way === null ? "Change" : "Close"}
          </Button>
        )}{" "}
        {hasLive && (
          <Button $quiet onPress={() => turnTo("reset")}>
            {hasFile ? "Back to the file" : "Back to what is inherited"}
          </Button>
        )}
      </p>
      {way === "say" && (
        <FormRow>
          <TextInput
            label="keep for"
            value={keepFor}
            onChange={change(setKeepFor)}
            placeholder="90d, empty: no limit"
          />
          <TextInput label="keep under" value={keepUnder} onChange={change(setKeepUnder)} placeholder="20GB" />
          <Button $quiet onPress={() => look.mutate("say")}>
            See what would go
          </Button>
          <Button onPress={() => apply.mutate("say")} isDisabled={!look.data}>
            Apply
          </Button>
        </FormRow>
      )}
      {look.data && <Change change={look.data} />}
      {way === "reset" && look.data && (
        <FormRow>
          <Button onPress={() => apply.mutate("reset")}>Go back to it</Button>
          <Button $quiet onPress={() => turnTo(null)}>
            Leave it
          </Button>
        </FormRow>
      )}
      {[look, apply].map((one, i) => one.error && <Failure key={i} error={one.error} />)}
    </>
  );
}

/** So many parts are named. */
const MOST_PARTS = 8;

function Change({ change: { after, goes } }: { change: RetentionChange }) {
  const rest = after.outlook?.at_rest;
  const from = after.outlook?.at_rest_from;
  const more = goes.parts.length - MOST_PARTS;
  return (
    <Notice>
      <p>
        Then: keep for {after.keep_for.told}; keep under {after.keep_under.told}.
      </p>
      {goes.waiting > 0 && (
        <p>{count(goes.waiting)} partitions are old enough to go, and wait until rollups tell of them.</p>
      )}
      {goes.parts.length === 0 ? (
        <p>Nothing would go now.</p>
      ) : (
        <p>
          <strong>
            {count(goes.points)} points, {bytes(goes.bytes)}
          </strong>{" "}
          of {goes.metrics.length === 1 ? "1 metric" : `${count(goes.metrics.length)} metrics`} would go now
          {goes.span && `, from ${day(goes.span[0])} to ${day(goes.span[1])}`}:{" "}
          {goes.parts
            .slice(0, MOST_PARTS)
            .map((part) => `${part.what} (${part.why}${part.for_good ? ", for good" : ", to the bin"})`)
            .join(", ")}
          {more > 0 && `, and ${count(more)} more`}
        </p>
      )}
      {after.next && (
        <p>
          Next by age, on {day(after.next.at)}: {after.next.what} as a whole, {count(after.next.points)} points.
        </p>
      )}
      {after.outlook && (
        <p>
          {rest === null || rest === undefined
            ? "Without a limit it grows without end."
            : `At rest it will weigh ${bytes(rest)}${from ? `, from ${day(from)} on` : ""}.`}{" "}
          <Faint>{after.outlook.arithmetic}</Faint>
        </p>
      )}
    </Notice>
  );
}
