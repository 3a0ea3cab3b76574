/** A button for what cannot be taken back: the first press asks, the second does it. */
import { useState } from "react";

import { Button } from "./parts";

interface Props {
  children: string;
  /** What it says once it was pressed. */
  sure: string;
  onSure: () => void;
  /** Whether it fits into a row of a table. */
  isLow?: boolean;
}

export function SureButton({ children, sure, onSure, isLow = false }: Props) {
  const [isSure, setSure] = useState(false);
  const press = () => {
    setSure(!isSure);
    if (isSure) onSure();
  };
  return (
    <Button $quiet $low={isLow} onPress={press} onBlur={() => setSure(false)}>
      {isSure ? sure : children}
    </Button>
  );
}
