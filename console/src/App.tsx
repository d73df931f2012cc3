import {Navigate, Route, Routes} from 'react-router';
import {useSession} from './features/session/queries';
import {ProblemError} from './api/client';
import {Loading, Notice, Trouble} from './design/Notice';
import {DomainPage} from './features/domains/DomainPage';
import {DomainsPage} from './features/domains/DomainsPage';
import {FlowPage} from './features/mailflow/FlowPage';
import {ReadingsPage} from './features/readings/ReadingsPage';
import {SubjectPage} from './features/readings/SubjectPage';
import {ReportPage} from './features/report/ReportPage';
import {SignIn} from './features/session/SignIn';
import {SettingsPage} from './features/settings/SettingsPage';
import {SuppressionPage} from './features/suppression/SuppressionPage';
import {WallPage} from './features/wall/WallPage';
import {WorklistPage} from './features/worklist/WorklistPage';
import {Shell} from './shell/Shell';

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
        <Notice title="You may not see any tenant yet">Whoever runs this service can let you: rustgauged tenant</Notice>
      ) : (
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
          <Route path="/settings" element={<SettingsPage who={who} />} />
          <Route path="/sign-in" element={<Navigate to="/" replace />} />
          <Route path="*" element={<Notice title="There is no such page">The way on is in the bar above.</Notice>} />
        </Routes>
      )}
    </Shell>
  );
}
