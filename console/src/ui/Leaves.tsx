/** A page's leaves: tabs, one look for all pages. */
import { Tab, TabList } from "react-aria-components";
import styled from "styled-components";

import { current } from "./parts";

export const Strip = styled(TabList)`
  display: flex;
  gap: 4px;
  border-bottom: 1px solid ${({ theme }) => theme.rule};
  margin-bottom: 16px;
` as typeof TabList;

export const Leaf = styled(Tab)`
  padding: 4px 12px;
  cursor: pointer;
  border-bottom: 2px solid transparent;
  &[data-selected] {
    ${current}
  }
`;
