/** The frame bar: range, width, zone and gaps of everything below it, as clauses of the query language. */
import styled from "styled-components";

import { Chooser } from "../ui/Chooser";
import { usePlace } from "./address";

const RANGES = ["last 15m", "last 1h", "last 6h", "last 24h", "last 7d", "last 30d", "today", "yesterday"];
const GAPS = ["empty", "hold", "line", "0"];
const WIDTHS = ["auto", "1m", "5m", "15m", "1h", "6h", "1d", "1w"];

const Bar = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
`;

export function FrameBar({ datasetZone }: { datasetZone: string }) {
  const [place, change] = usePlace();
  const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const zones = [...new Set([datasetZone, "UTC", here])];
  return (
    <Bar role="group" aria-label="Frame">
      <Chooser label="over" value={place.over} choices={RANGES} widthPx={240} onChange={(over) => change({ over })} />
      <Chooser
        label="per"
        value={place.per}
        choices={WIDTHS}
        widthPx={72}
        placeholder="one window"
        onChange={(per) => change({ per })}
      />
      <Chooser
        label="zone"
        value={place.zone === "" ? datasetZone : place.zone}
        choices={zones}
        widthPx={140}
        onChange={(zone) => change({ zone: zone === datasetZone ? "" : zone })}
      />
      <Chooser
        label="gaps"
        value={place.gaps === "" ? "empty" : place.gaps}
        choices={GAPS}
        widthPx={64}
        onChange={(gaps) => change({ gaps: gaps === "empty" ? "" : gaps })}
      />
    </Bar>
  );
}
