/** What came in over the last ten minutes, a bar for every ten seconds. */
import styled, { useTheme } from "styled-components";

import type { Overview } from "../../api/types";
import { count, short } from "../../format/numbers";
import { Faint, Heading } from "../../ui/parts";

const WIDTH = 1200;
const HEIGHT = 72;

const Row = styled.div`
  display: flex;
  justify-content: space-between;
  gap: 16px;
`;

export function Arrivals({ steps }: { steps: Overview["arrivals"] }) {
  const theme = useTheme();
  const most = Math.max(1, ...steps.map((step) => step.accepted + step.rejected));
  const taken = steps.reduce((sum, step) => sum + step.accepted, 0);
  const refused = steps.reduce((sum, step) => sum + step.rejected, 0);
  const summary = `${count(taken)} points accepted and ${count(refused)} rejected in the last ten minutes`;
  const width = WIDTH / Math.max(1, steps.length);
  // Logarithmic, so that a trickle is seen beside the flood of an import.
  const height = (number: number) => (Math.log1p(number) / Math.log1p(most)) * HEIGHT;
  return (
    <>
      <Row>
        <Heading>Arrivals, last ten minutes</Heading>
        <Faint>logarithmic; peak: {short(most)} in ten seconds</Faint>
      </Row>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        preserveAspectRatio="none"
        width="100%"
        height={HEIGHT}
        role="img"
        aria-label={summary}
        style={{ display: "block", marginTop: 8 }}
      >
        <line x1={0} x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} stroke={theme.rule} />
        {steps.map((step, i) => (
          <g key={step.start}>
            <rect
              x={i * width + 1}
              width={width - 2}
              y={HEIGHT - height(step.accepted)}
              height={height(step.accepted)}
              fill={theme.water}
            />
            <rect
              x={i * width + 1}
              width={width - 2}
              y={HEIGHT - height(step.accepted + step.rejected)}
              height={height(step.accepted + step.rejected) - height(step.accepted)}
              fill={theme.brick}
            />
          </g>
        ))}
      </svg>
      <Row>
        <Faint>ten minutes ago</Faint>
        <Faint>
          {count(taken)} accepted{refused > 0 ? `, ${count(refused)} rejected` : ", none rejected"}
        </Faint>
        <Faint>now</Faint>
      </Row>
    </>
  );
}
