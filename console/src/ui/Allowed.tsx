/** Shows its content only to callers with the grant, and otherwise the reason, if there is one. */
import type { ReactNode } from "react";

import { type Action, useMay } from "../api/caller";
import { Faint } from "./parts";

interface Props {
  to: Action;
  /** If omitted, on the whole store. */
  dataset?: string;
  /** What cannot be done, such as "change definitions". */
  otherwise?: string;
  children: ReactNode;
}

export function Allowed({ to, dataset, otherwise, children }: Props) {
  const may = useMay();
  if (may(to, dataset)) return children;
  return otherwise === undefined ? null : (
    <Faint>
      Your token may not {otherwise}: that needs the grant {dataset === undefined ? to : `${to}:${dataset}`}.
    </Faint>
  );
}
