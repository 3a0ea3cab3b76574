/** Small parts that every page is made of. */
import type { ReactNode } from "react";
import { Button as RacButton, ToggleButton as RacToggleButton } from "react-aria-components";
import styled, { css } from "styled-components";

import { CallError } from "../api/client";

/** How the page, or the leaf, that one is on stands out. */
export const current = css`
  border-color: ${({ theme }) => theme.water};
  color: ${({ theme }) => theme.water};
  font-weight: 600;
`;

export const Page = styled.main`
  max-width: 1400px;
  margin: 0 auto;
  padding: 16px 24px 48px;
  display: grid;
  gap: 16px;
  grid-template-columns: minmax(0, 1fr);
`;

export const Title = styled.h1`
  font-size: 20px;
  line-height: 28px;
  font-weight: 600;
`;

export const Panel = styled.section`
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.rule};
  border-radius: 2px;
  padding: 16px;
  min-width: 0;
`;

export const Heading = styled.h2`
  font-size: 14px;
  line-height: 20px;
  font-weight: 600;
`;

export const Faint = styled.span`
  color: ${({ theme }) => theme.faint};
`;

/** A button; `$low` fits into a row of a table. */
export const Button = styled(RacButton)<{ $quiet?: boolean; $low?: boolean }>`
  font: inherit;
  min-height: ${({ $low }) => ($low ? 24 : 28)}px;
  padding: ${({ $low }) => ($low ? "0 8px" : "3px 12px")};
  border-radius: 2px;
  cursor: pointer;
  border: 1px solid ${({ theme, $quiet }) => ($quiet ? theme.rule : theme.water)};
  background: ${({ theme, $quiet }) => ($quiet ? theme.sheet : theme.water)};
  color: ${({ theme, $quiet }) => ($quiet ? theme.ink : theme.foam)};
  &[data-hovered] {
    border-color: ${({ theme }) => theme.ink};
  }
  &[data-disabled] {
    opacity: 0.5;
    cursor: default;
  }
`;

export const Toggle = styled(RacToggleButton)`
  font: inherit;
  min-height: 28px;
  padding: 3px 10px;
  border-radius: 2px;
  cursor: pointer;
  border: 1px solid ${({ theme }) => theme.rule};
  background: transparent;
  color: ${({ theme }) => theme.faint};
  &[data-selected] {
    color: ${({ theme }) => theme.ink};
    background: ${({ theme }) => theme.shallow};
    border-color: ${({ theme }) => theme.water};
  }
  &[data-hovered] {
    border-color: ${({ theme }) => theme.ink};
  }
`;

export const Command = styled.pre`
  margin: 4px 0 0;
  padding: 8px 12px;
  overflow-x: auto;
  background: ${({ theme }) => theme.pane};
  border-left: 3px solid ${({ theme }) => theme.water};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;

const Note = styled.div<{ $tone: "brick" | "brass" }>`
  border-left: 3px solid ${({ theme, $tone }) => theme[$tone]};
  padding: 4px 12px;
  strong {
    color: ${({ theme, $tone }) => theme[$tone]};
  }
  pre {
    margin: 4px 0 0;
    white-space: pre-wrap;
  }
`;

/** What went wrong, and what to do. */
/** Text of a program, as it is. */
export const Code = styled.pre`
  font:
    13px/18px ui-monospace,
    "DejaVu Sans Mono",
    monospace;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;

export function Failure({ error, retry }: { error: unknown; retry?: () => void }) {
  const problem = error instanceof CallError ? error.problem : null;
  const text = error instanceof Error ? error.message : String(error);
  return (
    <Note $tone="brick" role="alert">
      <strong>{problem?.title ?? "That did not work"}</strong>
      {problem?.place ? <pre>{problem.place.drawing}</pre> : <p>{text}</p>}
      {retry && (
        <p style={{ marginTop: 8 }}>
          <Button $quiet onPress={retry}>
            Try again
          </Button>
        </p>
      )}
    </Note>
  );
}

/** In place of what has not come yet: that it is on its way, or why it does not come. */
export function Waiting({ error, retry }: { error: unknown; retry: () => unknown }) {
  return error ? <Failure error={error} retry={() => void retry()} /> : <p>Loading …</p>;
}

/** What a reader must know. */
export function Notice({ children }: { children: ReactNode }) {
  return (
    <Note $tone="brass" role="note">
      {children}
    </Note>
  );
}

/** Around a table that may be wider or higher than its room. With a name it is scrolled by the keyboard; a grid inside does that by itself. */
export const TableFrame = styled.div.attrs(({ "aria-label": name }) =>
  name === undefined ? {} : { tabIndex: 0, role: "region" },
)<{ $height?: number }>`
  overflow: auto;
  max-height: ${({ $height }) => ($height ? `${$height}px` : "none")};
  border: 1px solid ${({ theme }) => theme.rule};
`;

export const tableLook = `
  border-collapse: collapse;
  width: 100%;
  th, td { padding: 4px 12px; text-align: left; white-space: nowrap; }
  th { font-weight: 600; position: sticky; top: 0; z-index: 1; }
  td.figure, th.figure { text-align: right; }
`;

export const PlainTable = styled.table`
  ${tableLook}
  th {
    background: ${({ theme }) => theme.sheet};
    box-shadow: inset 0 -1px 0 ${({ theme }) => theme.rule};
  }
  tbody tr:hover {
    background: ${({ theme }) => theme.shallow};
  }
`;
