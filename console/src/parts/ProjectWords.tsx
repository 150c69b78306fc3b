// The name of a project, and its pages as words: on top of each of them.
import { Link } from 'react-router';
import { projectPages } from './pages';

export function ProjectWords({ project, at }: { project: string; at: string }) {
  return (
    <div className="bar title">
      <h1>{project}</h1>
      <nav className="words" aria-label={`Pages of ${project}`}>
        {projectPages(project).map((page) => (
          <Link key={page.key} to={page.to} aria-current={page.key === at ? 'page' : undefined}>
            {page.name}
          </Link>
        ))}
      </nav>
    </div>
  );
}
