// The pages of configurations: convert, compare, carve out.
import { Muted, Tabs } from "../shared/ui";
import { Begin } from "./convert";
import { Compare } from "./compare";
import { Services } from "./carve";

export const ConfigurationsPage = () => (
  <Tabs
    label="What to do"
    before={<h1 className="text-lg font-bold">Configurations</h1>}
    after={<Muted>Every line is accounted for. Secrets are never shown.</Muted>}
    panel="space-y-4"
    tabs={[
      { id: "convert", name: "Convert", show: <Begin /> },
      { id: "compare", name: "Compare", show: <Compare /> },
      { id: "services", name: "Carve out services", show: <Services /> },
    ]}
  />
);
