/** Limits of one place: what holds and where it comes from, and a change of it with what that would drop. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { useMay } from "../../api/caller";
import * as client from "../../api/client";
import type { Place, RetentionChange, LimitSettings } from "../../api/types";
import { bytes, count } from "../../format/numbers";
import { day } from "../../format/times";
import { FormRow, TextInput } from "../../ui/fields";
import { Button, Failure, Faint, Notice } from "../../ui/parts";

/** A typed limit, if it differs from before. An empty text or `none` means no limit. */
const changed = (key: keyof LimitSettings, text: string, before: string | null): LimitSettings => {
  const trimmed = text.trim();
  if (trimmed === (before ?? "")) return {};
  return { [key]: trimmed === "" || trimmed === "none" ? null : trimmed };
};

interface Props {
  place: Place;
  hasFile: boolean;
  /** Whether the form is there from the beginning. */
  isOpen?: boolean;
}

/** A change: limits of the scope, or a return to those of the configuration file. */
type Way = "say" | "reset";

export function Limits({ place, hasFile, isOpen = false }: Props) {
  const may = useMay();
  const mayChange = may("define", place.kind === "store" ? undefined : place.name.split("::")[0]);
  const queries = useQueryClient();
  const [way, setWay] = useState<Way | null>(isOpen ? "say" : null);
  const [keepFor, setKeepFor] = useState(place.keep_for.limit ?? "");
  const [keepUnder, setKeepUnder] = useState(place.keep_under.limit ?? "");
  const say: LimitSettings = {
    ...changed("keep_for", keepFor, place.keep_for.limit),
    ...changed("keep_under", keepUnder, place.keep_under.limit),
  };
  const order = (change: Way, preview: boolean) =>
    client.setRetention({ place: place.name, limits: change === "say" ? say : {}, reset: change === "reset", preview });
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
        keep for: <strong>{place.keep_for.text}</strong> · keep under: <strong>{place.keep_under.text}</strong>{" "}
        {!isOpen && mayChange && (
          <Button $quiet onPress={() => turnTo(way === null ? "say" : null)}>
            {way === null ? "Change" : "Close"}
          </Button>
        )}{" "}
        {hasLive && mayChange && (
          <Button $quiet onPress={() => turnTo("reset")}>
            {hasFile ? "Use the file" : "Use the inherited limit"}
          </Button>
        )}
      </p>
      {way === "say" && mayChange && (
        <FormRow>
          <TextInput
            label="keep for"
            value={keepFor}
            onChange={change(setKeepFor)}
            placeholder="90d, empty: no limit"
          />
          <TextInput label="keep under" value={keepUnder} onChange={change(setKeepUnder)} placeholder="20GB" />
          <Button $quiet onPress={() => look.mutate("say")}>
            Preview
          </Button>
          <Button onPress={() => apply.mutate("say")} isDisabled={!look.data}>
            Apply
          </Button>
        </FormRow>
      )}
      {look.data && <Change change={look.data} />}
      {way === "reset" && look.data && (
        <FormRow>
          <Button onPress={() => apply.mutate("reset")}>Apply</Button>
          <Button $quiet onPress={() => turnTo(null)}>
            Cancel
          </Button>
        </FormRow>
      )}
      {[look, apply].map((one, i) => one.error && <Failure key={i} error={one.error} />)}
    </>
  );
}

/** So many parts are named. */
const MOST_PARTS = 8;

function Change({ change: { after, expires } }: { change: RetentionChange }) {
  const rest = after.outlook?.at_rest;
  const from = after.outlook?.at_rest_from;
  const more = expires.parts.length - MOST_PARTS;
  return (
    <Notice>
      <p>
        New limits: keep for {after.keep_for.text}; keep under {after.keep_under.text}.
      </p>
      {expires.waiting > 0 && (
        <p>{count(expires.waiting)} partitions are old enough to expire, but wait until rollups cover them.</p>
      )}
      {expires.parts.length === 0 ? (
        <p>Nothing would expire now.</p>
      ) : (
        <p>
          <strong>
            {count(expires.points)} points, {bytes(expires.bytes)}
          </strong>{" "}
          of {expires.metrics.length === 1 ? "1 metric" : `${count(expires.metrics.length)} metrics`} would expire now
          {expires.span && `, from ${day(expires.span[0])} to ${day(expires.span[1])}`}:{" "}
          {expires.parts
            .slice(0, MOST_PARTS)
            .map((part) => `${part.what} (${part.why}${part.for_good ? ", for good" : ", to the bin"})`)
            .join(", ")}
          {more > 0 && `, and ${count(more)} more`}
        </p>
      )}
      {after.next && (
        <p>
          Next expiry: {after.next.what} on {day(after.next.at)}, {count(after.next.points)} points.
        </p>
      )}
      {after.outlook && (
        <p>
          {rest === null || rest === undefined
            ? "Without a limit it grows without limit."
            : `Maximum size: ${bytes(rest)}${from ? `, from ${day(from)}` : ""}.`}{" "}
          <Faint>{after.outlook.arithmetic}</Faint>
        </p>
      )}
    </Notice>
  );
}
