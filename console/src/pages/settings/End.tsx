// The end of a project.
import { useNavigate } from 'react-router';
import { api, done, useMay } from '../../api/client';
import { Act } from '../../parts/Act';
import type { Of } from './of';
import { useProject } from './useProject';

export default function End({ project }: Of) {
  const navigate = useNavigate();
  const owner = useMay('owner');
  const { data } = useProject(project);
  return (
    <div className="pad">
      <p>
        Removing a project ends its runs and takes away all that is kept of it here: runs, logs, artifacts, secrets,
        releases. Its repository{data && <span className="code"> {data.git_url} </span>}is not touched.
      </p>
      {owner ? (
        <Act
          name="Remove"
          label={`Remove ${project}`}
          says={`${project} and all its runs, logs, artifacts and secrets are gone for good; nothing brings them back but a backup.`}
          fields={[{ key: 'name', label: `Type ${project} to confirm`, needed: true }]}
          act={async ({ name }) => {
            if (name?.trim() !== project) throw new Error(`“${name}” is not ${project}: nothing was removed.`);
            await done(api.DELETE('/api/v1/projects/{name}', { params: { path: { name: project } } }));
            navigate('/');
            return { words: `${project} is removed.` };
          }}
        />
      ) : (
        <p className="soft">Owners of the service can do that.</p>
      )}
    </div>
  );
}
