/** A query about a metric, under the frame that holds. */
import { Link } from "react-router";

import type { Kind } from "../../api/types";
import { readPlace, usePlace, writePlace } from "../../frame/address";

export function AskLink({ text, query, dataset }: { text: string; query: string; dataset: string }) {
  const [place] = usePlace();
  const search = writePlace({ ...readPlace(writePlace(place)), dataset, query }).toString();
  return <Link to={{ pathname: "/ask", search }}>{text}</Link>;
}

/** A name as a query holds it. */
export const named = (name: string): string => (/^[\p{L}_][\p{L}\p{N}_.:]*$/u.test(name) ? name : `'${name}'`);

/** What to ask of a metric first. A distribution has points; its reducers come later. */
export function firstQuery(metric: string, kind: Kind): string {
  const what = kind === "state" ? "last" : kind === "histogram" ? "points" : "mean";
  return `show ${what} of ${named(metric)}`;
}
