//! The service with HTTP rules.

use super::*;

#[tonic::async_trait]
impl Fleet for Arc<Harbour> {
    async fn list_vessels(
        &self,
        request: Request<ListVesselsRequest>,
    ) -> Result<Response<ListVesselsResponse>, Status> {
        let asked = request.into_inner();
        let all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let port = asked
            .harbour
            .strip_prefix("harbours/")
            .unwrap_or(&asked.harbour)
            .replace('-', " ")
            .to_lowercase();
        let filter = asked.filter.unwrap_or_default();
        let fits = |v: &&Vessel| {
            (port.is_empty() || v.home_ports.iter().any(|p| p.to_lowercase() == port))
                && (asked.states.is_empty() || asked.states.contains(&v.state))
                && v.seats >= filter.min_seats
                && filter
                    .commissioned_before
                    .is_none_or(|t| v.commissioned.is_some_and(|c| c.seconds < t.seconds))
        };
        let found: Vec<Vessel> = all.values().filter(fits).cloned().collect();
        let from: usize = asked.page_token.parse().unwrap_or(0);
        let size = if asked.page_size > 0 {
            asked.page_size as usize
        } else {
            50
        };
        // Many more than there are, for whoever measures: the same ones again.
        let page: Vec<Vessel> = if size > 1000 {
            found
                .iter()
                .cycle()
                .take(if found.is_empty() { 0 } else { size })
                .cloned()
                .collect()
        } else {
            found.iter().skip(from).take(size).cloned().collect()
        };
        let next = if size <= 1000 && from + size < found.len() {
            (from + size).to_string()
        } else {
            String::new()
        };
        Ok(Response::new(ListVesselsResponse {
            total: found.len() as i64,
            vessels: page,
            next_page_token: next,
        }))
    }

    async fn get_vessel(
        &self,
        request: Request<GetVesselRequest>,
    ) -> Result<Response<Vessel>, Status> {
        let metadata = request.metadata().clone();
        let name = request.into_inner().name;
        if name == "vessels/ghost" {
            let retry = RetryInfo {
                retry_delay: Some(prost_types::Duration {
                    seconds: 1,
                    nanos: 500_000_000,
                }),
            };
            return Err(status(
                Code::Unavailable,
                "the fog is too thick",
                vec![detail("RetryInfo", &retry)],
            ));
        }
        let all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let vessel = all.get(&name).cloned().ok_or_else(|| unknown(&name))?;
        let mut response = Response::new(vessel);
        echo(&metadata, response.metadata_mut());
        Ok(response)
    }

    async fn update_vessel(
        &self,
        request: Request<UpdateVesselRequest>,
    ) -> Result<Response<Vessel>, Status> {
        let asked = request.into_inner();
        let Some(sent) = asked.vessel else {
            return Err(bad("vessel", "must be there"));
        };
        let mut all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let vessel = all.get_mut(&sent.name).ok_or_else(|| unknown(&sent.name))?;
        for path in asked.update_mask.unwrap_or_default().paths {
            match path.as_str() {
                "title" => vessel.title.clone_from(&sent.title),
                "seats" => vessel.seats = sent.seats,
                "state" => vessel.state = sent.state,
                "draught" => vessel.draught = sent.draught,
                "home_ports" => vessel.home_ports.clone_from(&sent.home_ports),
                "car_decks" => vessel.car_decks = sent.car_decks,
                "name" => {}
                other => return Err(bad(&format!("update_mask.{other}"), "cannot be changed")),
            }
        }
        Ok(Response::new(vessel.clone()))
    }

    async fn retire_vessel(
        &self,
        request: Request<GetVesselRequest>,
    ) -> Result<Response<()>, Status> {
        let name = request.into_inner().name;
        let mut all = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        all.remove(&name)
            .map(|_| Response::new(()))
            .ok_or_else(|| unknown(&name))
    }

    async fn report_defect(
        &self,
        request: Request<ReportDefectRequest>,
    ) -> Result<Response<Defect>, Status> {
        let asked = request.into_inner();
        let mut defect = asked.defect.unwrap_or_default();
        if defect.text.is_empty() {
            return Err(bad("defect.text", "must say what is wrong"));
        }
        let mut all = self
            .defects
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        let number = all.len() + 1;
        defect.name = format!("{}/defects/{number}", asked.vessel);
        defect.severity = if asked.urgent {
            5
        } else {
            defect.severity.max(1)
        };
        all.insert(defect.name.clone(), defect.clone());
        Ok(Response::new(defect))
    }

    async fn get_defect(
        &self,
        request: Request<GetDefectRequest>,
    ) -> Result<Response<Defect>, Status> {
        let name = request.into_inner().name;
        let all = self
            .defects
            .lock()
            .map_err(|_| Status::internal("poisoned"))?;
        all.get(&name)
            .cloned()
            .map(Response::new)
            .ok_or_else(|| unknown(&name))
    }

    type StreamPositionsStream = Many<Position>;

    async fn stream_positions(
        &self,
        request: Request<StreamPositionsRequest>,
    ) -> Result<Response<Self::StreamPositionsStream>, Status> {
        let asked = request.into_inner();
        let interval = asked.interval.map_or(Duration::from_millis(500), |d| {
            Duration::new(d.seconds.max(0) as u64, d.nanos.max(0) as u32)
        });
        let names: Vec<String> = self
            .vessels
            .lock()
            .map_err(|_| Status::internal("poisoned"))?
            .keys()
            .cloned()
            .collect();
        let (count, fail_after) = (asked.count, asked.fail_after);
        let (sender, receiver) = tokio::sync::mpsc::channel(4);
        tokio::spawn(async move {
            for i in 0.. {
                if count > 0 && i >= count {
                    return;
                }
                let last = fail_after > 0 && i >= fail_after;
                let message = if last {
                    Err(Status::data_loss("the radar went dark"))
                } else {
                    Ok(data::position(&names, i as usize))
                };
                // The caller has left when nobody takes it.
                if sender.send(message).await.is_err() || last {
                    return;
                }
                if !interval.is_zero() {
                    tokio::time::sleep(interval).await;
                }
            }
        });
        Ok(Response::new(Box::pin(
            tokio_stream::wrappers::ReceiverStream::new(receiver),
        )))
    }

    async fn upload_log_book(
        &self,
        request: Request<Streaming<LogEntry>>,
    ) -> Result<Response<LogBookSummary>, Status> {
        let mut entries = request.into_inner();
        let mut summary = LogBookSummary::default();
        while let Some(entry) = entries.next().await {
            let entry = entry?;
            if entry.text.is_empty() {
                return Err(bad(
                    &format!("entries[{}].text", summary.entries),
                    "must not be empty",
                ));
            }
            summary.entries += 1;
            summary.characters += entry.text.chars().count() as i64;
            summary.last = entry.text;
        }
        Ok(Response::new(summary))
    }

    type PilotStream = Many<PilotAnswer>;

    async fn pilot(
        &self,
        request: Request<Streaming<PilotQuestion>>,
    ) -> Result<Response<Self::PilotStream>, Status> {
        let mut number = 0;
        let answers = request.into_inner().map(move |question| {
            number += 1;
            question.map(|q| PilotAnswer {
                text: format!("{}: steady as she goes", q.text),
                number,
            })
        });
        Ok(Response::new(Box::pin(answers)))
    }

    async fn get_deck_plan(
        &self,
        request: Request<GetVesselRequest>,
    ) -> Result<Response<HttpBody>, Status> {
        let name = request.into_inner().name;
        let drawing = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 90 20\"><path d=\"M2 10 10 2h70v16H10z\" fill=\"#d7e3ea\"/><text x=\"14\" y=\"13\" font-size=\"6\">{name}</text></svg>"
        );
        Ok(Response::new(HttpBody {
            content_type: "image/svg+xml".into(),
            data: drawing.into_bytes(),
            extensions: Vec::new(),
        }))
    }

    async fn get_file(&self, request: Request<GetFileRequest>) -> Result<Response<File>, Status> {
        let path = request.into_inner().path;
        Ok(Response::new(File {
            text: format!("what lies at {path}"),
            path,
        }))
    }
}

/// Metadata that was sent is told back, so that one can see what arrived.
fn echo(from: &MetadataMap, to: &mut MetadataMap) {
    if let Some(value) = from.get("x-voyage") {
        to.insert("x-voyage-seen", value.clone());
    }
    if let Some(value) = from.get_bin("x-chart-bin") {
        to.insert_bin("x-chart-seen-bin", value.clone());
    }
    if let Some(Ok(value)) = from
        .get("grpc-timeout")
        .map(|v| v.to_str().map(str::to_owned))
        && let Ok(value) = value.parse()
    {
        to.insert("x-deadline-seen", value);
    }
}
