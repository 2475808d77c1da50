import pytest

from umbrick.cli import main


@pytest.fixture
def umbrick(monkeypatch, capsys, tmp_path):
    """Run the command line as a shell would; returns status, standard output, standard error."""
    monkeypatch.chdir(tmp_path)

    def run(*arguments):
        monkeypatch.setattr("sys.argv", ["umbrick", *map(str, arguments)])
        with pytest.raises(SystemExit) as ended:
            main()
        out, err = capsys.readouterr()
        assert "Traceback" not in err
        return ended.value.code or 0, out, err

    return run
