/** Who is here, and which page. Each page is its own chunk, loaded when it is first opened. */
import {lazy, Suspense, type ComponentType} from 'react';
import {Link, Navigate, Route, Routes, useLocation} from 'react-router';
import {usePreferences} from './features/session/preferences';
import {useSession} from './features/session/queries';
import {setTimeZone} from './design/format';
import {ProblemError, type Schemas} from './api/client';
import {Loading, Notice, Trouble} from './design/Notice';
import {JoinPage} from './features/session/JoinPage';
import {SignIn} from './features/session/SignIn';
import {Shell} from './shell/Shell';

type Page = ComponentType<{who: Schemas['Who']}>;
const BenchPage = lazy<Page>(() => import('./features/bench/BenchPage').then((m) => ({default: m.BenchPage})));
const TrayPage = lazy(() => import('./features/bench/TrayPage').then((m) => ({default: m.TrayPage})));
const RunPage = lazy(() => import('./features/placement/RunPage').then((m) => ({default: m.RunPage})));
const MessagePage = lazy(() => import('./features/bench/MessagePage').then((m) => ({default: m.MessagePage})));
const DocsPage = lazy(() => import('./features/docs/DocsPage').then((m) => ({default: m.DocsPage})));
const DomainPage = lazy(() => import('./features/domains/DomainPage').then((m) => ({default: m.DomainPage})));
const DomainsPage = lazy<Page>(() => import('./features/domains/DomainsPage').then((m) => ({default: m.DomainsPage})));
const ReportsPage = lazy<Page>(() => import('./features/reports/ReportsPage').then((m) => ({default: m.ReportsPage})));
const FlowPage = lazy<Page>(() => import('./features/mailflow/FlowPage').then((m) => ({default: m.FlowPage})));
const ReadingsPage = lazy(() => import('./features/readings/ReadingsPage').then((m) => ({default: m.ReadingsPage})));
const SubjectPage = lazy(() => import('./features/readings/SubjectPage').then((m) => ({default: m.SubjectPage})));
const ReportPage = lazy<Page>(() => import('./features/report/ReportPage').then((m) => ({default: m.ReportPage})));
const SettingsPage = lazy<Page>(() =>
  import('./features/settings/SettingsPage').then((m) => ({default: m.SettingsPage})),
);
const SuppressionPage = lazy<Page>(() =>
  import('./features/suppression/SuppressionPage').then((m) => ({default: m.SuppressionPage})),
);
const WallPage = lazy<Page>(() => import('./features/wall/WallPage').then((m) => ({default: m.WallPage})));
const WorklistPage = lazy<Page>(() =>
  import('./features/worklist/WorklistPage').then((m) => ({default: m.WorklistPage})),
);

export function App() {
  const {pathname, hash} = useLocation();
  return pathname === '/join' ? <JoinPage secret={hash.slice(1)} /> : <Inside />;
}

function Inside() {
  const session = useSession();
  const {preferences, isPending} = usePreferences();
  if (session.isPending || (session.data && isPending)) return <Loading what="your session" />;
  if (session.error) {
    const refused = session.error instanceof ProblemError && session.error.problem.status === 401;
    return refused ? <SignIn /> : <Trouble error={session.error} again={() => void session.refetch()} />;
  }
  const who = session.data;
  const zone = preferences.time_zone;
  setTimeZone(zone); // before anything below shows a moment; with another one, all of it is shown again
  return (
    <Shell key={zone} who={who}>
      {who.tenants.length === 0 ? (
        <Suspense fallback={<Loading what="the page" />}>
          <Routes>
            <Route path="/settings/:section?" element={<SettingsPage who={who} />} />
            <Route path="/docs/:name?" element={<DocsPage />} />
            <Route path="*" element={<NoTenant who={who} />} />
          </Routes>
        </Suspense>
      ) : (
        <Suspense fallback={<Loading what="the page" />}>
          <Routes>
            <Route path="/" element={<WallPage who={who} />} />
            <Route path="/worklist/:tenant?/:id?" element={<WorklistPage who={who} />} />
            <Route path="/domains" element={<DomainsPage who={who} />} />
            <Route path="/domains/reports" element={<ReportsPage who={who} />} />
            <Route path="/domains/:tenant/:name" element={<DomainPage />} />
            <Route path="/flow" element={<FlowPage who={who} />} />
            <Route path="/report" element={<ReportPage who={who} />} />
            <Route path="/readings" element={<ReadingsPage />} />
            <Route path="/readings/:tenant/:subject/:name" element={<SubjectPage />} />
            <Route path="/suppression" element={<SuppressionPage who={who} />} />
            <Route path="/bench" element={<BenchPage who={who} />} />
            <Route path="/bench/:tenant/:name" element={<TrayPage />} />
            <Route path="/bench/:tenant/:name/:id" element={<MessagePage />} />
            <Route path="/placement/:tenant/:id" element={<RunPage />} />
            <Route path="/settings/:section?" element={<SettingsPage who={who} />} />
            <Route path="/docs/:name?" element={<DocsPage />} />
            <Route path="/sign-in" element={<Navigate to="/" replace />} />
            <Route
              path="*"
              element={
                <Notice page title="Page not found">
                  Use the navigation above.
                </Notice>
              }
            />
          </Routes>
        </Suspense>
      )}
    </Shell>
  );
}

/** Somebody without a tenant: why, and what to do about it. */
function NoTenant({who}: {who: Schemas['Who']}) {
  const locked = who.locked ?? [];
  if (locked.length > 0) {
    return (
      <Notice page title={`${locked.map((each) => each.name).join(', ')} requires a second factor`}>
        <Link to="/settings/account">Set one up, or enter a code, in your account</Link>
      </Notice>
    );
  }
  if (who.is_owner) {
    return (
      <Notice page title="No tenants yet">
        <Link to="/settings/tenants">Add the first tenant</Link>
      </Notice>
    );
  }
  return (
    <Notice page title="You have no access to a tenant">
      Ask an admin of the tenant to invite you.
    </Notice>
  );
}
