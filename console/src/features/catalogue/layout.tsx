/** How the panels of the Catalogue are laid out. */
import { Button } from "react-aria-components";
import styled from "styled-components";

import { Panel } from "../../ui/parts";

export const Stack = styled(Panel)`
  display: grid;
  gap: 12px;
  grid-template-columns: minmax(0, 1fr);
`;

export const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: end;
`;

export const Two = styled.div`
  display: grid;
  gap: 8px;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
`;

export const Pairs = styled.dl`
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 2px 12px;
  margin: 0;
  dt {
    color: ${({ theme }) => theme.faint};
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
`;

/** A list, and beside it what is known of the one that was chosen. */
export const Beside = styled.div<{ $open: boolean }>`
  display: grid;
  gap: 16px;
  grid-template-columns: minmax(0, 1fr) ${({ $open }) => ($open ? "400px" : "")};
  align-items: start;
`;

/** What opens the panel of a thing: its name. */
export const Name = styled(Button)`
  font: inherit;
  padding: 0;
  border: 0;
  background: none;
  color: ${({ theme }) => theme.water};
  text-decoration: underline;
  cursor: pointer;
`;
