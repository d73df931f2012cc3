/** Who is here, and which page. Each page is its own chunk, loaded when it is first opened. */
import {lazy, Suspense, type ComponentType} from 'react';
import {Navigate, Route, Routes} from 'react-router';
import {useSession} from './features/session/queries';
import {ProblemError, type Schemas} from './api/client';
import {Loading, Notice, Trouble} from './design/Notice';
import {SignIn} from './features/session/SignIn';
import {Shell} from './shell/Shell';

type Page = ComponentType<{who: Schemas['Who']}>;
const DomainPage = lazy(() => import('./features/domains/DomainPage').then((m) => ({default: m.DomainPage})));
const DomainsPage = lazy<Page>(() => import('./features/domains/DomainsPage').then((m) => ({default: m.DomainsPage})));
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
const WallPage = lazy(() => import('./features/wall/WallPage').then((m) => ({default: m.WallPage})));
const WorklistPage = lazy<Page>(() =>
  import('./features/worklist/WorklistPage').then((m) => ({default: m.WorklistPage})),
);

export function App() {
  const session = useSession();
  if (session.isPending) return <Loading what="your session" />;
  if (session.error) {
    const refused = session.error instanceof ProblemError && session.error.problem.status === 401;
    return refused ? <SignIn /> : <Trouble error={session.error} again={() => void session.refetch()} />;
  }
  const who = session.data;
  return (
    <Shell who={who}>
      {who.tenants.length === 0 ? (
        <Notice title="You have no access to a tenant yet">Ask an administrator to add you: rustgauged tenant</Notice>
      ) : (
        <Suspense fallback={<Loading what="the page" />}>
          <Routes>
            <Route path="/" element={<WallPage />} />
            <Route path="/worklist" element={<WorklistPage who={who} />} />
            <Route path="/worklist/:tenant/:id" element={<WorklistPage who={who} />} />
            <Route path="/domains" element={<DomainsPage who={who} />} />
            <Route path="/domains/:tenant/:name" element={<DomainPage />} />
            <Route path="/flow" element={<FlowPage who={who} />} />
            <Route path="/report" element={<ReportPage who={who} />} />
            <Route path="/readings" element={<ReadingsPage />} />
            <Route path="/readings/:tenant/:subject/:name" element={<SubjectPage />} />
            <Route path="/suppression" element={<SuppressionPage who={who} />} />
            <Route path="/settings/:section?" element={<SettingsPage who={who} />} />
            <Route path="/sign-in" element={<Navigate to="/" replace />} />
            <Route path="*" element={<Notice title="Page not found">Use the navigation above.</Notice>} />
          </Routes>
        </Suspense>
      )}
    </Shell>
  );
}
