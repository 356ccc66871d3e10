import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { NavLink, Route, Routes } from "react-router-dom";
import { useService } from "./shared/service";
import { api, ask, onSignedOut, Refused } from "./shared/api";
import { BackupPage, ComparePage, HistoryPage } from "./backups/backup";
import { BringUpPage } from "./bringup/bringup";
import { ReplacePage } from "./replace/replace";
import { ServicesPage } from "./services/services";
import { SparesPage } from "./spares/spares";
import { BackupsPage } from "./backups/backups";
import { ChangePage } from "./changes/change";
import { ChangesPage } from "./changes/changes";
import { DevicePage } from "./fleet/device";
import { FleetPage } from "./fleet/fleet";
import { SignIn } from "./signin/signin";
import { AdvisoriesPage } from "./catalogue/advisories";
import { CataloguePage } from "./catalogue/catalogue";
import { ConfigurationsPage } from "./configurations/configurations";
import { ConversionPage } from "./configurations/conversion";
import { DialectsPage } from "./dialects/dialects";
import { ImagesPage } from "./images/images";
import { KeysPage } from "./keys/keys";
import { PathsPage } from "./paths/paths";
import { RulesPage } from "./changes/rules";
import { MediaPage } from "./media/media";
import { SimulationPage, useSimulation } from "./fleet/simulation";
import { Trouble, Waiting } from "./shared/ui";

function useTheme() {
  const [dark, setDark] = useState(
    () =>
      (localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light")) ===
      "dark",
  );
  useEffect(() => {
    document.documentElement.classList.toggle("dark", dark);
    localStorage.setItem("theme", dark ? "dark" : "light");
  }, [dark]);
  return { dark, toggle: () => setDark((d) => !d) };
}

const places = [
  ["/", "Fleet"],
  ["/changes", "Changes"],
  ["/paths", "Paths"],
  ["/catalogue", "Catalogue"],
  ["/images", "Images"],
  ["/advisories", "Advisories"],
  ["/backups", "Backups"],
  ["/configurations", "Configurations"],
  ["/dialects", "Dialects"],
  ["/keys", "Keys"],
];

/** Says that the fleet is simulated; where the simulation can be reached, it leads to its page. */
function Simulated({ factor }: { factor: number }) {
  const there = useSimulation(false);
  const look = "rounded-sm border border-dashed border-slate-500 px-2 py-0.5 text-xs";
  const words = `Simulated, ${factor} times faster`;
  if (!there.data)
    return (
      <span className={look} title="The fleet is simulated. Expected ranges are for this pace.">
        {words}
      </span>
    );
  return (
    <NavLink
      to="/simulation"
      title="What stands where, and what is to go wrong"
      className={({ isActive }) =>
        `${look} underline decoration-dotted underline-offset-2 ${isActive ? "bg-ink text-white dark:bg-slate-200 dark:text-night" : ""}`
      }
    >
      {words}
    </NavLink>
  );
}

export function App() {
  const theme = useTheme();
  const queries = useQueryClient();
  const service = useService();
  useEffect(() => onSignedOut(() => queries.invalidateQueries({ queryKey: ["service"] })), [queries]);

  const gone = service.error instanceof Refused && service.error.problem.status === 401;
  if (gone) return <SignIn onDone={() => queries.resetQueries()} />;
  if (service.isPending) return <Waiting />;
  if (!service.data)
    return (
      <main className="mx-auto max-w-xl p-6">
        <Trouble error={service.error} />
      </main>
    );

  const leave = async () => {
    await ask(api.POST("/sign-out")).catch(() => {});
    queries.resetQueries();
  };
  return (
    <>
      <header className="border-b-2 border-brass bg-white dark:bg-deck">
        <div className="mx-auto flex max-w-7xl flex-wrap items-center gap-x-3 gap-y-2 px-4 py-2">
          <span className="flex items-center gap-2 text-base font-bold tracking-wide">
            <svg
              viewBox="0 0 32 32"
              className="size-6 text-brass dark:text-brasslight"
              fill="none"
              stroke="currentColor"
              strokeWidth="3.5"
              strokeLinejoin="round"
              aria-hidden
            >
              <path d="M4 26 L16 6 L28 26" />
              <circle cx="16" cy="20" r="3" fill="currentColor" />
            </svg>
            Verimorph
          </span>
          <nav className="flex flex-wrap" aria-label="Pages">
            {places.map(([to, name]) => (
              <NavLink
                key={to}
                to={to}
                end={to === "/"}
                className={({ isActive }) =>
                  `rounded-sm px-2 py-1 ${isActive ? "bg-ink text-white dark:bg-slate-200 dark:text-night" : "hover:bg-slate-100 dark:hover:bg-slate-700"}`
                }
              >
                {name}
              </NavLink>
            ))}
          </nav>
          <span className="ml-auto" />
          {service.data.timeFactor > 1 && <Simulated factor={service.data.timeFactor} />}
          {service.isError && (
            <span role="status" className="text-xs font-semibold text-rose-800 dark:text-rose-300">
              The service does not answer
            </span>
          )}
          <Menu as="div" className="relative">
            <MenuButton className="rounded-sm border border-slate-400 px-2.5 py-1 dark:border-slate-600">
              {service.data.user}
            </MenuButton>
            <MenuItems
              anchor="bottom end"
              className="z-20 mt-1 w-44 rounded-md border border-line bg-white p-1 shadow-lg dark:border-nightline dark:bg-deck"
            >
              <MenuItem>
                <button
                  onClick={theme.toggle}
                  className="block w-full rounded-sm px-2 py-1.5 text-left data-focus:bg-slate-100 dark:data-focus:bg-slate-700"
                >
                  {theme.dark ? "Light page" : "Dark page"}
                </button>
              </MenuItem>
              <MenuItem>
                <button
                  onClick={leave}
                  className="block w-full rounded-sm px-2 py-1.5 text-left data-focus:bg-slate-100 dark:data-focus:bg-slate-700"
                >
                  Sign out
                </button>
              </MenuItem>
            </MenuItems>
          </Menu>
        </div>
      </header>
      <main className="mx-auto max-w-7xl space-y-4 p-4">
        <Routes>
          <Route path="/" element={<FleetPage />} />
          <Route path="/devices/:name" element={<DevicePage />} />
          <Route path="/changes" element={<ChangesPage />} />
          <Route path="/changes/rules" element={<RulesPage />} />
          <Route path="/changes/:id" element={<ChangePage />} />
          <Route path="/devices/:name/history" element={<HistoryPage />} />
          <Route path="/backups" element={<BackupsPage />} />
          <Route path="/backups/:id" element={<BackupPage />} />
          <Route path="/backups/:id/compare/:other" element={<ComparePage />} />
          <Route path="/dialects" element={<DialectsPage />} />
          <Route path="/keys" element={<KeysPage />} />
          <Route path="/simulation" element={<SimulationPage />} />
          <Route path="/configurations" element={<ConfigurationsPage />} />
          <Route path="/configurations/:id" element={<ConversionPage />} />
          <Route path="/paths" element={<PathsPage />} />
          <Route path="/bring-up" element={<BringUpPage />} />
          <Route path="/replace" element={<ReplacePage />} />
          <Route path="/spares" element={<SparesPage />} />
          <Route path="/services" element={<ServicesPage />} />
          <Route path="/media" element={<MediaPage />} />
          <Route path="/catalogue" element={<CataloguePage />} />
          <Route path="/catalogue/:family" element={<CataloguePage />} />
          <Route path="/images" element={<ImagesPage />} />
          <Route path="/advisories" element={<AdvisoriesPage />} />
          <Route path="/advisories/:id" element={<AdvisoriesPage />} />
          <Route path="*" element={<p>There is no such page.</p>} />
        </Routes>
      </main>
    </>
  );
}
