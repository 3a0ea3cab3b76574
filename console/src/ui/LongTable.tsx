/** A table of any length, of which only the rows in sight are there. */
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, type ReactNode } from "react";
import styled from "styled-components";

const ROW = 29;

const Frame = styled.div`
  overflow: auto;
  border: 1px solid ${({ theme }) => theme.rule};
`;

const Grid = styled.div<{ $columns: string }>`
  min-width: max-content;
  [role="row"] {
    display: grid;
    grid-template-columns: ${({ $columns }) => $columns};
    height: ${ROW}px;
    align-items: center;
  }
  [role="columnheader"],
  [role="cell"] {
    padding: 0 12px;
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
  }
  .figure {
    text-align: right;
  }
`;

const Head = styled.div`
  position: sticky;
  top: 0;
  z-index: 1;
  font-weight: 600;
  background: ${({ theme }) => theme.sheet};
  box-shadow: inset 0 -1px 0 ${({ theme }) => theme.rule};
`;

const Rows = styled.div`
  position: relative;
  [role="row"] {
    position: absolute;
    left: 0;
    right: 0;
  }
  [role="row"]:hover,
  [role="row"][aria-selected="true"] {
    background: ${({ theme }) => theme.shallow};
  }
`;

export interface LongColumn<T> {
  name: string;
  /** What stands above it, if not its name. */
  head?: ReactNode;
  sorted?: "ascending" | "descending" | "none";
  /** Track of the grid. */
  width: string;
  figure?: boolean;
  cell: (item: T) => ReactNode;
}

interface Props<T> {
  label: string;
  items: readonly T[];
  columns: readonly LongColumn<T>[];
  keyOf: (item: T) => string;
  selected?: string | undefined;
  height: number;
}

export function LongTable<T>({ label, items, columns, keyOf, selected, height }: Props<T>) {
  const frame = useRef<HTMLDivElement>(null);
  // oxlint-disable-next-line react/incompatible-library -- its rows are drawn here, and handed to nobody
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => frame.current,
    estimateSize: () => ROW,
    overscan: 12,
    initialRect: { width: 1000, height },
  });
  const look = (column: LongColumn<T>) => (column.figure ? "figure" : "");
  return (
    <Frame ref={frame} style={{ maxHeight: height }} tabIndex={0} role="region" aria-label={label}>
      <Grid
        role="table"
        aria-label={label}
        aria-rowcount={items.length + 1}
        $columns={columns.map((column) => column.width).join(" ")}
      >
        <Head role="rowgroup">
          <div role="row" aria-rowindex={1}>
            {columns.map((column) => (
              <div
                role="columnheader"
                key={column.name}
                className={look(column)}
                {...(column.sorted === undefined ? {} : { "aria-sort": column.sorted })}
              >
                {column.head ?? column.name}
              </div>
            ))}
          </div>
        </Head>
        <Rows role="rowgroup" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map(({ index, start }) => {
            const item = items[index];
            if (item === undefined) return null;
            const key = keyOf(item);
            return (
              <div
                role="row"
                key={key}
                aria-rowindex={index + 2}
                aria-selected={key === selected}
                style={{ transform: `translateY(${start}px)` }}
              >
                {columns.map((column) => (
                  <div role="cell" key={column.name} className={look(column)}>
                    {column.cell(item)}
                  </div>
                ))}
              </div>
            );
          })}
        </Rows>
      </Grid>
    </Frame>
  );
}
