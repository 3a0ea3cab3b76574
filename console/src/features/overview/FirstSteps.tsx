/** An empty store: four steps to the first chart. */
import { Link } from "react-router";
import styled from "styled-components";

import { Command, Faint, Heading, Panel, Title } from "../../ui/parts";

const Steps = styled.ol`
  list-style: none;
  padding: 0;
  margin: 0;
  display: grid;
  gap: 16px;
  li {
    display: grid;
    grid-template-columns: 32px minmax(0, 1fr);
  }
  li > span {
    font-size: 20px;
    font-weight: 600;
    color: ${({ theme }) => theme.water};
  }
`;

const QUERY = "show mean of level";

export function FirstSteps() {
  const here = window.location.origin;
  const flag = here.endsWith(":7430") ? "" : ` --url ${here}`;
  const search = new URLSearchParams({ dataset: "main", over: "last 1h", per: "1m", q: QUERY }).toString();
  return (
    <>
      <Title>The store is empty: four steps to the first chart</Title>
      <Panel>
        <Steps>
          <li>
            <span aria-hidden>1</span>
            <div>
              <Heading>Push a point</Heading>
              <Faint>
                From any program with HTTP. If the time is omitted, the current time is used. A few, a minute apart,
                make a better chart.
              </Faint>
              <Command>{`curl -H 'Content-Type: application/json' \\
  -d '{"metric": "level", "tags": {"lock": "osier", "side": "up"}, "value": 312.5}' \\
  ${here}/api/v1/datasets/main/points`}</Command>
            </div>
          </li>
          <li>
            <span aria-hidden>2</span>
            <div>
              <Heading>Or import a file</Heading>
              <Faint>
                Name the columns of the time, tags and values. --dry-run reads everything and stores nothing.
              </Faint>
              <Command>{`fenetre import levels.csv --time time --tag lock --tag side --value level${flag}`}</Command>
              <p style={{ marginTop: 8 }}>
                <Link to="/arrivals">Or choose a file here</Link>
              </p>
            </div>
          </li>
          <li>
            <span aria-hidden>3</span>
            <div>
              <Heading>Define the metric</Heading>
              <Faint>Kind, unit and description. History stays as it is.</Faint>
              <Command>{`fenetre metrics define level --unit cm --description 'Water level at a lock'${flag}`}</Command>
            </div>
          </li>
          <li>
            <span aria-hidden>4</span>
            <div>
              <Heading>Ask</Heading>
              <Faint>A query reads like a sentence. Its result is drawn in the windows of the frame.</Faint>
              <Command>{`${QUERY} over last 1h per 1m`}</Command>
              <p style={{ marginTop: 8 }}>
                <Link to={{ pathname: "/ask", search }}>Run it here</Link>
              </p>
            </div>
          </li>
        </Steps>
      </Panel>
      <Faint>This page updates when the first point arrives.</Faint>
    </>
  );
}
