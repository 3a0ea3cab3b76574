/** Getting data in: a file, a program, and what became of both. */
import { useState } from "react";
import { TabPanel, Tabs } from "react-aria-components";

import type { DatasetInfo } from "../../api/types";
import { Allowed } from "../../ui/Allowed";
import { Leaf, Strip } from "../../ui/Leaves";
import { Title } from "../../ui/parts";
import { ImportList } from "./ImportList";
import { ImportWizard } from "./ImportWizard";
import { PushCommands } from "./PushCommands";
import { Refused } from "./Refused";
import { Sources } from "./Sources";
import { Tail } from "./Tail";

export function ArrivalsPage({ dataset }: { dataset: DatasetInfo }) {
  const [leaf, setLeaf] = useState("import");
  return (
    <>
      <Title>Arrivals in {dataset.name}</Title>
      <Tabs selectedKey={leaf} onSelectionChange={(key) => setLeaf(String(key))}>
        <Strip aria-label="Ways to add points">
          <Leaf id="import">Import a file</Leaf>
          <Leaf id="imports">Imports</Leaf>
          <Leaf id="push">Push</Leaf>
          <Leaf id="sources">Sources</Leaf>
          <Leaf id="refused">Rejected</Leaf>
          <Leaf id="tail">Live</Leaf>
        </Strip>
        <TabPanel id="import">
          <Allowed to="write" dataset={dataset.name} otherwise="import files">
            <ImportWizard dataset={dataset.name} />
          </Allowed>
        </TabPanel>
        <TabPanel id="imports">
          <ImportList />
        </TabPanel>
        <TabPanel id="push">
          <Allowed to="write" dataset={dataset.name} otherwise="push points">
            <PushCommands dataset={dataset.name} />
          </Allowed>
        </TabPanel>
        <TabPanel id="sources">
          <Sources dataset={dataset.name} />
        </TabPanel>
        <TabPanel id="refused">
          <Refused />
        </TabPanel>
        <TabPanel id="tail">
          <Tail dataset={dataset.name} />
        </TabPanel>
      </Tabs>
    </>
  );
}
